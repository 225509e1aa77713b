"""Runs: plans, training, policies, going on with a run, doing it again."""
