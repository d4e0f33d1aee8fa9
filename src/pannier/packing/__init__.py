"""Packing: sources and changes become the next snapshot."""
