"""The label of a row as text."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

MIDNIGHT = " 00:00:00"


def label_text(label: Any) -> str:
    """Return a label as people write it: a day without its midnight, a scalar without its type."""
    if isinstance(label, tuple):
        return str(tuple(label_text(part) for part in label))
    if hasattr(label, "item"):
        label = label.item()
    if isinstance(label, (date, datetime)):
        return str(label).removesuffix(MIDNIGHT)
    return str(label)
