"""Matplotlib figures of runs: learning curves and reward ledgers."""
