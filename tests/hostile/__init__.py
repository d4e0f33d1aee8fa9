"""Hostile input: readers fed with what no writer makes. `python -m tests.hostile` for as long as is said."""
