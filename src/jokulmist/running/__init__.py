"""A run from its first decision to its record: sessions, runs, workers; `train`, `resume`, `adapt`."""
