"""Methods that learn from decisions that were recorded, without stepping an environment."""
