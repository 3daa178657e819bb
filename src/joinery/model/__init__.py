"""fit(): the one way in. Fit: the one result. Saving and loading it."""
