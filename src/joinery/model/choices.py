"""Choices: the options of ``fit`` as they are given, before a table has been read."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from joinery.core.glm.estimate import Dispersion
from joinery.data.given_columns import named_columns
from joinery.data.records import Records
from joinery.study.fitted import Options, checked_level
from joinery.support import advice
from joinery.support.arguments import as_labels
from joinery.support.errors import CallError, one_of

STD_ERRORS = (
    "constant spread",
    "robust",
    "hc0",
    "hc1",
    "hc2",
    "hc3",
    "clustered",
    "autocorrelated",
)
MISSING = ("leave out", "refuse", "mean")
BY_ROW = ("weights", "repeats", "offset", "where", "order", "cluster")  # may be a value a row


@dataclass(frozen=True, eq=False)
class Choices:
    """The keywords of ``fit``, a field each; what they mean stands there."""

    family: str | None = None  # None: the family that the response calls for
    link: str | None = None  # None: the family's first
    dispersion: float | str | None = None
    weights: str | Iterable[Any] | None = None
    repeats: str | Iterable[Any] | None = None
    offset: str | Iterable[Any] | None = None
    where: str | Iterable[Any] | None = None
    leave_out: Sequence[Any] | str | None = None
    id: str | None = None
    order: str | Iterable[Any] | None = None
    missing: str = "leave out"
    std_errors: str = "constant spread"
    cluster: str | Iterable[Any] | None = None
    penalty: str | None = None
    level: float = 0.95
    labels: Mapping[str, str] | None = None

    @classmethod
    def of(cls, options: Options) -> Choices:
        """Return the choices that lead to the options of a fit."""
        given = {f.name: getattr(options, f.name) for f in fields(cls)}
        return cls(**given | {"cluster": options.cluster or None})

    def in_table(self, table: Records) -> tuple[Records, Choices]:
        """Put values that were given row by row into the table, and name their columns instead.

        Raises CallError and UnequalLengthsError for values that do not fit the rows."""
        given = {name: getattr(self, name) for name in BY_ROW}
        table, named = named_columns(table, given)
        return table, replace(self, **named)

    def checked(self) -> Options:
        """Return the options of a fit; family and link are still to be chosen for its response.

        Raises CallError for a word that an option does not know."""
        one_of("missing", self.missing, MISSING)
        one_of("std_errors", self.std_errors, STD_ERRORS)
        cluster = _as_names(self.cluster)
        if (self.std_errors == "clustered") != bool(cluster):
            pair = f"{advice.option('std_errors', 'clustered')} and {advice.option('cluster')}"
            raise CallError(f"{pair} go together", argument="cluster")
        leave_out = None
        if self.leave_out is not None:
            leave_out = tuple(as_labels(self.leave_out))
        given = {f.name: getattr(self, f.name) for f in fields(Options)}
        return Options(
            **given
            | {
                "family": self.family or Options.family,
                "link": self.link or Options.link,
                "dispersion": checked_dispersion(self.dispersion),
                "leave_out": leave_out,
                "cluster": cluster,
                "level": checked_level(self.level),
                "labels": dict(self.labels or {}),
            }
        )


def _as_names(cluster: Any) -> tuple[str, ...]:
    """Return one column or several, as a tuple."""
    if isinstance(cluster, str):
        return (cluster,)
    return tuple(cluster or ())


def checked_dispersion(dispersion: float | str | None) -> Dispersion:
    """Return a known dispersion as a number, or ``"estimated"``. Raises CallError for anything
    else."""
    if dispersion is None:
        return None
    if isinstance(dispersion, str):
        if dispersion == "estimated":
            return "estimated"
    elif (
        isinstance(dispersion, (int, float))
        and not isinstance(dispersion, bool)
        and 0 < dispersion < np.inf
    ):
        return float(dispersion)
    raise CallError(
        f"{advice.option('dispersion', dispersion)} is not known; it is "
        '"estimated", or a number above zero',
        argument="dispersion",
    )
