"""Bytes: the storage that a store lies on, by names, and nothing of what they mean."""
