"""Forecasts of new rows."""
