"""What every room may use: errors, advice, arguments, progress."""
