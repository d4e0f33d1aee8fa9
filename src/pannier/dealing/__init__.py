"""Dealing: what is said of splits, and who goes to which."""
