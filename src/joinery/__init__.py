"""Joinery: fit, read, check, mend and forecast with linear models from a table and one sentence.

>>> import joinery as jn
>>> fit = jn.fit("sample:jars", "jars_sold given hours_open")
>>> print(fit.equation())
jars_sold = 3.74 + 5.293 hours_open

Everything public is importable from here; heavy modules load when first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from joinery.support.version import VERSION as __version__  # noqa: N811

if TYPE_CHECKING:
    from joinery.data.reading import read as read
    from joinery.data.reading import sample_data as sample_data
    from joinery.data.reading import sample_names as sample_names
    from joinery.data.sources.opening import source as source
    from joinery.first_look.look import Look as Look
    from joinery.first_look.look import look as look
    from joinery.model.compare import Trail as Trail
    from joinery.model.compare import compare as compare
    from joinery.model.compare import report as report
    from joinery.model.compare import stepwise as stepwise
    from joinery.model.fit import fit as fit
    from joinery.model.fit import load as load
    from joinery.model.fit_each import FitSet as FitSet
    from joinery.model.fit_each import fit_each as fit_each
    from joinery.model.result import Fit as Fit
    from joinery.rehearsal.simulate import Rehearsal as Rehearsal
    from joinery.rehearsal.simulate import rehearse as rehearse
    from joinery.rehearsal.simulate import simulate as simulate
    from joinery.show.table import Table as Table
    from joinery.support.errors import *  # noqa: F403

_HOMES = {
    "joinery.data.reading": ("read", "sample_data", "sample_names"),
    "joinery.data.sources.opening": ("source",),
    "joinery.first_look.look": ("look", "Look"),
    "joinery.model.fit": ("fit", "load"),
    "joinery.model.fit_each": ("fit_each", "FitSet"),
    "joinery.model.result": ("Fit",),
    "joinery.model.compare": ("compare", "report", "stepwise", "Trail"),
    "joinery.rehearsal.simulate": ("simulate", "rehearse", "Rehearsal"),
    "joinery.show.table": ("Table",),
    "joinery.support.errors": (
        "JoineryError",
        "CallError",
        "SentenceError",
        "UnknownColumnError",
        "DataError",
        "UnusableColumnError",
        "EmptyTableError",
        "UnequalLengthsError",
        "MissingCellsError",
        "TooLargeError",
        "ClusterError",
        "EstimationError",
        "NothingEstimableError",
        "NoConvergenceError",
        "NewRowError",
        "FileFormatError",
        "JoineryWarning",
        "EstimateWarning",
        "ReadingWarning",
    ),
}
_HOME = {name: home for home, names in _HOMES.items() for name in names}

__all__ = [*_HOME, "__version__"]


if not TYPE_CHECKING:  # else a slip would be anything to a type checker

    def __getattr__(name: str) -> Any:
        if name not in _HOME:
            raise AttributeError(f"module 'joinery' has no attribute {name!r}")
        value = getattr(import_module(_HOME[name]), name)
        globals()[name] = value
        return value


def __dir__() -> list[str]:
    return sorted(__all__)
