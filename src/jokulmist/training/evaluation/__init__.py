"""Episodes without learning: measured, recorded, and shown."""
