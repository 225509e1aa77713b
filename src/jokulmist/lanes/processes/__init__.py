"""Copies of a simulator, each in a process of its own."""
