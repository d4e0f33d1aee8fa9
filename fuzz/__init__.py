"""Hostile input: readers fed with what no writer makes. `python -m fuzz` for as long as is said."""
