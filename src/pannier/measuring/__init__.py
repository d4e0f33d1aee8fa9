"""Measuring: memory, trials under an enforced limit, ceilings, sweeps."""
