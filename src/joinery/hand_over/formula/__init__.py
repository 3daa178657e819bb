"""The formula of a forecast in each language that it is written in."""
