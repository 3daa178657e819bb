"""The label of a row as text."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from typing import Any

import numpy as np

MIDNIGHT = " 00:00:00"


def label_text(label: Any) -> str:
    """Return a label as people write it: a day without its midnight, a scalar without its type."""
    if isinstance(label, tuple):
        return str(tuple(label_text(part) for part in label))
    if isinstance(label, np.datetime64):
        label = label.astype("datetime64[us]")  # finer ones become whole numbers
    if isinstance(label, np.generic):
        label = label.item()
    if isinstance(label, (date, datetime)):
        return str(label).removesuffix(MIDNIGHT)
    return str(label)


FILED = (str, int, float, np.generic, date)  # labels that every kind of file has cells for


def plain_labels(labels: Sequence[Any]) -> Sequence[Any]:
    """Return labels that every kind of file has cells for: as they are, or their texts."""
    if all(label is None or isinstance(label, FILED) for label in labels):
        return labels
    return [label_text(label) for label in labels]
