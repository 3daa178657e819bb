"""The colours, each with its one meaning. Never colour alone: also shape, label or position."""

INK = "#22313a"  # text and points
AMBER = "#d1830f"  # the fitted line, the thing looked at; lines and marks, never text
TEAL = "#1f7a78"  # a second series, a smooth
RUST = "#b1452b"  # serious
SLATE = "#5c6b73"  # axes, secondary text
MIST = "#e3e8e9"  # bands and rules
PAPER = "#ffffff"
CATEGORIES = (TEAL, "#5b6fb0", "#8a5a83", "#6f8f3a", AMBER, SLATE)
DARK_AMBER = "#8f5a08"  # amber for words: it keeps 4.5 : 1 on paper

# what each becomes on a dark ground; the page's dark mode has the same
DARK = {
    INK: "#e6ecee",
    SLATE: "#a9b6bc",
    MIST: "#36444b",
    AMBER: "#e9a23b",
    DARK_AMBER: "#e9a23b",
    TEAL: "#55b7b3",
    RUST: "#ee8a6c",
    "#5b6fb0": "#93a5e0",
    "#8a5a83": "#c793bf",
    "#6f8f3a": "#a5c46e",
}
