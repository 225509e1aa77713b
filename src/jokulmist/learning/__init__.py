"""What learning methods share."""
