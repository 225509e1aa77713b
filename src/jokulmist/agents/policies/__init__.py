"""Methods that learn a policy and a value from what they do."""
