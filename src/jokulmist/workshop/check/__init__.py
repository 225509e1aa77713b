"""Looks for the mistakes that people make in an environment."""
