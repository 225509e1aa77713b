"""One file a method: its settings, and how it chooses and learns."""
