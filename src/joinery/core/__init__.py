"""Arrays in, arrays out: least squares, its tests, influence and intervals. No names, no tables."""
