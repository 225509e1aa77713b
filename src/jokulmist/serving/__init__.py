"""Policies behind a port."""
