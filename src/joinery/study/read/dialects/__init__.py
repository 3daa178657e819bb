"""Languages that a formula is written in, a file each."""
