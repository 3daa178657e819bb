"""The first look at a table."""
