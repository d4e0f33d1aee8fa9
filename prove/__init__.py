"""The proofs at full scale: `python -m prove`."""
