"""Upkeep: verifying, repairing, tidying, copying."""
