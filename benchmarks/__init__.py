"""Ratios against plain linear algebra, measured in one run: ``python -m benchmarks [NAME...]``."""
