"""Everything that each room may use: errors, advice, arguments, progress."""
