"""The model sentence: reading it, printing it back, and computing its expressions on columns."""
