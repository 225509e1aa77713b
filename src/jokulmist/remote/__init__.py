"""Environments that are programs at the other end of a connection."""
