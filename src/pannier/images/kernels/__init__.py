"""Kernels: compiled loops over pixels and hashes, each imported only where it is about to run."""
