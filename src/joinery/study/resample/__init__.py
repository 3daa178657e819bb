"""Fits judged on rows they have not seen."""
