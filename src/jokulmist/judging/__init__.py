"""What a policy is worth: evaluation, rollouts, exact values, estimates from records."""
