"""The command line: each command parses, calls one function of the core, and prints."""
