"""Numbers beyond a double, triangular factors, and reference distributions."""
