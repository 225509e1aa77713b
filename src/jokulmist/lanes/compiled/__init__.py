"""Copies of an environment that step together as one program compiled by JAX."""
