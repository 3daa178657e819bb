"""Studies simulated and rehearsed."""
