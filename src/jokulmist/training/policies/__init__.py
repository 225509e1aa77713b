"""Policies: what was learned, and how the functions of an agent are called."""
