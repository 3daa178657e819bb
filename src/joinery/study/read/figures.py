"""Every figure of a fit in one row, for whoever sets fits side by side."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from joinery.show.appearance import Appearance
from joinery.show.table import Table


def figures(sentence: str, values: Mapping[str, Any]) -> Table:
    """Return the table of figures. See ``Fit.figures``.

    A figure without meaning for the family is empty, as it is None of the fit itself."""
    columns = {name: [np.nan if value is None else value] for name, value in values.items()}
    return Table(
        columns,
        title=f"Figures of {sentence}",
        appearance=Appearance(kinds=dict.fromkeys(columns, "own")),
    )
