"""Loops as a careful person writes them by hand, to measure the library against."""
