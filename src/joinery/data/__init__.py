"""Getting a table in: files, frames, kinds of columns, numbers as text, sample tables."""
