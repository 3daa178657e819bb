"""Everything that follows from an estimate: covariances, tests, intervals, diagnostics."""
