"""Folders: a snapshot laid out as files again."""
