"""A first look at a table."""
