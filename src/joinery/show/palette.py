"""The colours, each with its one meaning. Never colour alone: also shape, label or position."""

INK = "#22313a"  # text and points
AMBER = "#d1830f"  # the fitted line, the thing looked at; lines and marks, never text
TEAL = "#1f7a78"  # a second series, a smooth
RUST = "#b1452b"  # serious
SLATE = "#5c6b73"  # axes, secondary text
MIST = "#e3e8e9"  # bands and rules
PAPER = "#ffffff"
CATEGORIES = (TEAL, "#5b6fb0", "#8a5a83", "#6f8f3a", AMBER, SLATE)
