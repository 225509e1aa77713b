"""Methods that keep action values in a table."""
