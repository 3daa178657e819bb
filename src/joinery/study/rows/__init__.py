"""Each row of a fit: its figures, and what is remarkable about it."""
