"""Policies that leave: as a file that needs neither this library nor, but for one form, Python."""
