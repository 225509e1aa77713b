"""Episodes step by step: recorded, put together from what a loop saw, and followed again."""
