"""Correlations as a table."""

from __future__ import annotations

from typing import Any

import numpy as np

from joinery.core.inference import correlation
from joinery.data.records import Records
from joinery.notation.context import Rows, positions_at
from joinery.show.appearance import Appearance
from joinery.show.table import Table
from joinery.support.limits import LOOK_RANKED

LEVEL = 0.95  # of the intervals of correlations


def ranked_rows(table: Records, rows: Rows) -> tuple[Rows, int]:
    """Return the rows whose ranks are told, every so many of those wanted: all where they are
    few."""
    n = table.count(rows)
    step = max(-(-n // LOOK_RANKED), 1)
    if step == 1:
        return (rows, 1)
    return (positions_at(rows, np.arange(0, n, step)), step)


def correlation_table(
    first: dict[str, Any],
    straight: correlation.Correlation,
    ranked: correlation.Correlation,
    *,
    title: str,
    basis: str,
    ranked_every: int = 1,
    more: dict[str, Any] | None = None,
) -> Table:
    """Return correlations as a Table, strongest first; words for strength stand beside the figure.

    Ranks are of every row, or of one in ``ranked_every``."""
    if ranked_every > 1 and len(ranked.n):
        basis += f"; Spearman's over {int(ranked.n.max()):,} of them taken evenly"
    order = np.argsort(-np.nan_to_num(np.abs(straight.r), nan=-1.0), kind="stable")
    columns: dict[str, Any] = {name: [values[i] for i in order] for name, values in first.items()}
    columns |= {
        "n": straight.n[order],
        "pearson": straight.r[order],
        "lower": straight.lower[order],
        "upper": straight.upper[order],
        "p": straight.p[order],
        "strength": [_strength(straight.r[i]) for i in order],
        "spearman": ranked.r[order],
        "spearman_lower": ranked.lower[order],
        "spearman_upper": ranked.upper[order],
        "spearman_p": ranked.p[order],
    }
    columns |= {name: [values[i] for i in order] for name, values in (more or {}).items()}
    kinds = dict.fromkeys(
        ("pearson", "lower", "upper", "spearman", "spearman_lower", "spearman_upper"), "correlation"
    )
    return Table(
        columns,
        title=title,
        notes=(
            f"correlations with 95 % intervals, {basis}; strength: |r| from 0.1 weak, 0.3 "
            "moderate, 0.5 strong",
        ),
        appearance=Appearance(
            kinds=kinds
            | {"spearman_p": "p", "strength": "text", "variance_inflation": "own"}
            | dict.fromkeys(first, "text"),
            headings={"pearson": "Pearson r", "spearman": "Spearman r", "spearman_p": "Spearman p"},
            most_rows=12,
            keys=len(first),
            joined={
                "pearson": ("lower", "upper"),
                "spearman": ("spearman_lower", "spearman_upper"),
            },
        ),
    )


def _strength(r: float) -> str:
    """Return a word for a correlation's size (Cohen 1988, 3.2)."""
    if np.isnan(r):
        return ""
    size = abs(r)
    if size >= 0.5:
        return "strong"
    if size >= 0.3:
        return "moderate"
    if size >= 0.1:
        return "weak"
    return "hardly any"
