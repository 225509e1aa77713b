"""Methods that learn a policy from critics of state and action, with replay."""
