"""Exact solutions of environments whose states can be counted."""
