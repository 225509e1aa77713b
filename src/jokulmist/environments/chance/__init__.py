"""Random numbers that depend on seed, stream, copy and turn, and on nothing else."""
