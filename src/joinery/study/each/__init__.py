"""One sentence fitted to each group of rows."""
