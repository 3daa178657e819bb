"""Least squares: one entry, and the ways it may go."""
