"""The loops that choose, advance and learn, a decision or a chunk at a time; policies, and what loops record."""
