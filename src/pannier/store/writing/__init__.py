"""Writing: sources and changes become snapshots."""
