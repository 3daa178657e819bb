"""One sentence fitted to each group of rows: the doors to a set of fits."""

from __future__ import annotations

import os
import warnings
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

import numpy as np

from joinery.data.any_table import records
from joinery.model.choices import Choices
from joinery.model.result import Fit
from joinery.model.steps import (
    ChosenRows,
    chosen_rows,
    fitted_with_rows,
    resolved_sentence,
    with_design,
)
from joinery.notation.context import positions_at
from joinery.show.numbers import count
from joinery.show.table import Table
from joinery.study.each import tables
from joinery.study.each.differ import test
from joinery.study.each.groups import Groups, grouped
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.support import words
from joinery.support.arguments import as_labels, checked
from joinery.support.errors import CallError, JoineryWarning, UnknownColumnError, one_of
from joinery.support.threads import one_thread_a_product

if TYPE_CHECKING:
    from matplotlib.figure import Figure

PICTURES = ("coefficients", "lines")
OTHER_GROUPS = "in other groups"


@dataclass(frozen=True, eq=False, repr=False)
class FitSet:
    """One sentence fitted to each group of rows.

    ``coefficients`` and ``figures`` are Tables of all groups; ``fits`` gives the Fit of a group by
    its label; ``test()`` says whether the groups differ."""

    _groups: Groups
    _fits: Mapping[str, Fit] = field(default_factory=dict)  # of a set loaded from a file

    @property
    def sentence(self) -> str:
        """The model sentence in its canonical form."""
        return self._groups.common.sentence

    @property
    def by(self) -> tuple[str, ...]:
        """The columns whose values are the groups."""
        return self._groups.by

    @cached_property
    def coefficients(self) -> Table:
        """A line for each coefficient of each group."""
        return tables.coefficients(self._groups)

    @cached_property
    def figures(self) -> Table:
        """A line for each group: rows, residual SD, R², and why a group has no fit."""
        return tables.figures(self._groups)

    @cached_property
    @one_thread_a_product()
    def page(self) -> Table:
        """The short page: a line a group with its coefficients, and whether groups differ."""
        return tables.page(self._groups)

    @cached_property
    def fits(self) -> Mapping[str, Fit]:
        """The Fit of each group by its label, made when it is asked for."""
        return self._fits or GroupFits(self._groups)

    @one_thread_a_product()
    def test(self) -> Table:
        """Test whether the groups differ: all terms crossed with the group.

        Returns a Table: group (``all groups``, then each against the others), f (or chi2), df,
        residual_df, p. Where the groups' spreads differ, which is said, or under robust errors,
        each keeps its own. Source: Johansen 1980; Holm 1979 over single groups.

        >>> import joinery as jn
        >>> each = jn.fit_each("sample:yields", "honey_kg given forage_km2", by="hive_type")
        >>> each.test()["group"].tolist()
        ['all groups', 'long', 'stacked', 'top-bar']
        """
        return test(self._groups)

    def draw(
        self,
        name: words.FitSetPicture,
        *,
        against: str | None = None,
        path: str | os.PathLike[str] | None = None,
        figsize: tuple[float, float] | None = None,
    ) -> Figure:
        """Draw ``coefficients`` (intervals a group) or ``lines`` (small multiples).

        Parameters: ``against`` the predictor of ``lines``; ``path`` where to write the picture;
        ``figsize`` in inches. Returns a Matplotlib Figure. Raises CallError for another name, or
        for lines of a set loaded from a file.

        >>> import joinery as jn
        >>> each = jn.fit_each("sample:yields", "honey_kg given forage_km2", by="hive_type")
        >>> figure = each.draw("coefficients")
        """
        from joinery.study.each import pictures

        one_of("picture", name, PICTURES)
        return pictures.draw(self._groups, name, against=against, path=path, figsize=figsize)

    def save(self, path: str | os.PathLike[str]) -> Path:
        """Write all groups' fits to one JSON file, which ``load`` reads.

        >>> import joinery as jn, tempfile, pathlib
        >>> each = jn.fit_each("sample:yields", "honey_kg given forage_km2", by="hive_type")
        >>> file = each.save(pathlib.Path(tempfile.mkdtemp()) / "each.json")
        >>> jn.load(file).coefficients == each.coefficients
        True
        """
        from joinery.model.save_each import save_each

        return save_each(self._groups, self.fits, path)

    def report(self, path: str | os.PathLike[str]) -> Path:
        """Write one page of all groups: figures, coefficients, the test, pictures.

        >>> import joinery as jn, tempfile, pathlib
        >>> each = jn.fit_each("sample:yields", "honey_kg given forage_km2", by="hive_type")
        >>> each.report(pathlib.Path(tempfile.mkdtemp()) / "each.html").name
        'each.html'
        """
        from joinery.hand_over.report_each import report_each

        return report_each(self._groups, path)

    def __len__(self) -> int:
        return len(self._groups.labels)

    def __str__(self) -> str:
        return str(self.page)

    def __repr__(self) -> str:
        return f"<FitSet {self.sentence!r} by {', '.join(self.by)}, {count(len(self), 'group')}>"

    def _repr_html_(self) -> str:
        return self.page.render("html")


@dataclass(frozen=True, eq=False)
class GroupFits(Mapping[str, Fit]):
    """The fits of groups by their labels, each made when it is asked for."""

    groups: Groups
    made: dict[str, Fit] = field(default_factory=dict)

    def __getitem__(self, label: str) -> Fit:
        if label not in self.made:
            labels = self.groups.labels
            if not len(self.groups.codes):
                raise CallError(
                    "a set of so many fits keeps their figures alone in its file; fit the table "
                    "again for the fit of a group"
                )
            if label not in labels:
                raise KeyError(label)
            place = labels.index(label)
            rows = np.flatnonzero(self.groups.codes == place)
            self.made[label] = Fit(of_rows(self.groups.common, self.groups.by, rows))
        return self.made[label]

    def __iter__(self) -> Iterator[str]:
        pairs = zip(self.groups.labels, self.groups.reasons, strict=True)
        return (label for label, reason in pairs if not reason)

    def __len__(self) -> int:
        return sum(1 for _ in self)


@checked
def fit_each(
    data: Any,
    model: str,
    *,
    by: str | Sequence[str],
    terms: Sequence[str] | None = None,
    **options: Unpack[words.EachOptions],
) -> FitSet:
    """Fit one sentence to each group of rows.

    Parameters: ``data``, ``model``, ``terms`` and the other options as for ``fit``; ``by`` the
    column whose values are the groups, or several. What is learnt from rows (levels, means, knots)
    is learnt once, from all that are used, so that the groups' models are nested in one another.
    Returns a FitSet, in which a group that cannot be fitted has the reason. Raises what ``fit``
    raises, and CallError for a group column that is the response.
    Source: least squares of all groups in a few passes, as in ``core.least_squares.batched``.

    >>> import joinery as jn
    >>> each = jn.fit_each("sample:yields", "honey_kg given forage_km2", by="hive_type")
    >>> each.figures["n_rows"].tolist()
    [39, 49, 25]
    """
    columns = tuple(as_labels(by))
    choices = Choices(**options)
    table, choices = choices.in_table(records(data, choices.id).kept())
    for name in columns:
        if name not in table.names:
            raise UnknownColumnError(name, table.names, where=" for by=")
    if len(set(columns)) < len(columns) or not columns:
        raise CallError("by= names one column or several, each once", argument="by")
    sentence, chosen, notes = resolved_sentence(table, model, choices, terms)
    rows = chosen_rows(table, sentence, chosen)
    used = rows.used
    for name in columns:  # a row without a group is in none
        missing = table.column(name).missing(used.rows)
        lost = positions_at(used.rows, np.flatnonzero(missing))
        used = used.without(lost, f"no {name}")
    common = fitted_with_rows(table, replace(rows, used=used), sentence, chosen, notes)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", JoineryWarning)
        return FitSet(grouped(common, columns, partial(of_rows, common, columns)))


def of_rows(common: Fitted, by: Sequence[str], places: np.ndarray) -> Fitted:
    """Fit a design to the rows of one group among those that it was learnt from."""
    table, used = rows_at_hand(common)
    assert common.origin is not None
    here = np.zeros(used.used, bool)
    here[places] = True
    others = positions_at(used.rows, np.flatnonzero(~here))
    out = used.without(others, OTHER_GROUPS)
    # rows of other groups that are left out for a reason of their own are no loss of this one
    group = positions_at(used.rows, places[:1])
    for name in by:
        column = table.column(name)
        elsewhere = column.codes(out.out) != column.codes(group)
        reasons = (OTHER_GROUPS if e else r for r, e in zip(out.reasons, elsewhere, strict=True))
        out = replace(out, reasons=tuple(reasons))
    # as where= cuts rows off: those of a group are neighbours of one another
    out = replace(out, cut=np.union1d(used.cut, others))
    rows = ChosenRows(table, out, common.design.fills)
    return with_design(
        common.design, common.origin.given, rows, common.design.sentence, common.options
    )
