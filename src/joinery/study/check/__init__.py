"""Assumptions of a model, one question after another."""
