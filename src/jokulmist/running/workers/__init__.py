"""Worker processes that train, one job at a time."""
