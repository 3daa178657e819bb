"""Generalized linear models: families, links, and the reweighted iteration."""
