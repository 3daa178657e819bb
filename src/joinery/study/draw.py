"""The pictures of a fit by name: the arrays, the question in the title, the finding under it."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.picture_list import PICTURES
from joinery.study.picture_words import names_of
from joinery.study.thinned import thinned
from joinery.support import advice
from joinery.support.errors import CallError, one_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure, SubFigure


def check_picture(name: str, options: Iterable[str]) -> None:
    """Raise CallError for no such picture, or an option that it does not take."""
    one_of("picture", name, tuple(PICTURES))
    takes = PICTURES[name].takes
    for wanted in options:
        if wanted not in takes:
            named = ", ".join(map(advice.option, takes))
            known = f"; it takes {named}" if takes else ""
            raise CallError(
                f"the picture {name!r} takes no {advice.option(wanted)}{known}", argument=wanted
            )


def draw(
    fit: Fitted,
    name: str,
    *,
    path: str | os.PathLike[str] | None,
    ax: Axes | Figure | SubFigure | None,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    figsize: tuple[float, float] | None = None,
    **options: Any,
) -> Figure:
    """Draw a picture by name. See ``Fit.draw``."""
    from joinery.show.pictures.canvas import finished

    check_picture(name, options)
    picture = PICTURES[name]
    if not picture.without_rows:
        rows_at_hand(fit)
    fit, remarks = thinned(fit, name, label_rows)
    words = {**words, "drawn": remarks}
    draw_it = picture.drawer(name)

    def make(axes: Axes | None) -> Figure:
        return draw_it(fit, label_rows=label_rows, words=words, ax=axes, **options)

    return finished(make, names_of(fit), ax=ax, figsize=figsize, path=path)
