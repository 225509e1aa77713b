"""The training loops: over plain copies, and over compiled ones."""
