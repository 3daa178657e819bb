"""Getting a table in: files, frames from elsewhere, kinds of columns, numbers written as text, the sample tables."""
