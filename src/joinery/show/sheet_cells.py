"""The cells that a spreadsheet has."""

from __future__ import annotations

from datetime import date
from typing import Any

import numpy as np

from joinery.show.marks import visible
from joinery.support.labels import label_text


def cell_of_sheet(cell: Any) -> Any:
    """Return what a spreadsheet has a cell for: a number, a date without a zone, else a text."""
    if cell is None or isinstance(cell, (int, float, np.number)):
        return cell
    if isinstance(cell, date) and getattr(cell, "tzinfo", None) is None:
        return cell
    return visible(label_text(cell))
