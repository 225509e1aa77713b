"""Searching for settings."""
