"""Versions: names, histories, differences, facts, dockets, questions."""
