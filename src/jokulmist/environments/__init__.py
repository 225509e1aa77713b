"""What a researcher declares, and how it is stepped by hand. Imports NumPy and nothing heavier."""
