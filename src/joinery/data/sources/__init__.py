"""Tables that stay where they are: files, databases, clusters, read a column at a time."""
