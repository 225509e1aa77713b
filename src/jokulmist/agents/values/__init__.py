"""Methods that learn action values by a network or by linear features."""
