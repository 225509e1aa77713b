"""An environment under the lens, before any training."""
