"""Learning from decisions that were recorded, and judging policies by them."""
