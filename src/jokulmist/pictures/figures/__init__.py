"""Matplotlib figures of runs, comparisons and searches."""
