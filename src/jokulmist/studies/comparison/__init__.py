"""Is it better, or was it luck? Groups of runs laid side by side."""
