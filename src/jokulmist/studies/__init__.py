"""Several runs: comparing them, and searching for settings."""
