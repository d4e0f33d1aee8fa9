"""Pages: what a colleague reads, as one HTML file each that needs nothing else."""
