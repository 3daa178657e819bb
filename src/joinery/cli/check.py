"""Commands that check a model."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from joinery import errors
from joinery.cli import options as o
from joinery.cli.app import CHECK, app, fit_of, folder_of, question, show, working
from joinery.show.marks import tell

if TYPE_CHECKING:
    pass


question(
    "checks",
    CHECK,
    "What the model takes for granted: figures, verdicts, what to do.",
    lambda f: f.checks(),
)


question(
    "rows",
    CHECK,
    "Each row's figures: fit, leverage, influence, and what is remarkable.",
    lambda f: f.rows(),
)


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_ALONE, o.FIT)
def draw(
    model: Annotated[str, typer.Argument(metavar="MODEL", help="a model sentence")],
    names: Annotated[
        list[str], typer.Argument(metavar="NAME...", help="line, residuals, checks, leverage, …")
    ],
    against: Annotated[
        str | None, typer.Option("--against", help="the column across, for line and residuals")
    ] = None,
    output: Annotated[
        str | None, typer.Option("--output", help="the file (.png .svg .pdf), or a folder")
    ] = None,
    **given: Any,
) -> None:
    """Draw pictures of a fit into files."""
    target = Path(output) if output else Path()
    one_file = target.suffix != ""
    if one_file and len(names) > 1:
        raise errors.CallError("several pictures go into a folder; give --output a folder")
    target = target if one_file else folder_of(target)
    fitted = fit_of(model=model, **given)
    for name in names:
        path = target if one_file else target / f"{name}.png"
        options: dict[str, Any] = {} if against is None else {"against": against}
        fitted.draw(name, path=path, **options)
        tell(f"drew {path}")


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def crosscheck(
    folds: Annotated[
        int | None, typer.Option("--folds", help="how many; else leave-one-out or 10")
    ] = None,
    by: Annotated[
        str | None, typer.Option("--by", help="hold out whole groups of this column")
    ] = None,
    seed: Annotated[int | None, typer.Option("--seed", help="deals the same folds again")] = None,
    **given: Any,
) -> None:
    """Judge a fit on rows it has not seen."""
    fitted = fit_of(**given)
    with working("fitting without each fold"):
        table = fitted.crosscheck(folds, by=by, seed=seed)
    show(table, given)
