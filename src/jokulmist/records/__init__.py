"""Files: plan, origin, episodes, readings, checkpoints; writing them, reading them."""
