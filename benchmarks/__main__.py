"""Runs the comparisons and prints a row for each."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from tempfile import TemporaryDirectory

import numpy as np
import pandas as pd
from threadpoolctl import threadpool_info

import joinery as jn
from benchmarks import wide
from benchmarks.measure import Row, fresh, in_turn, often, peak_growth
from joinery.core.blocks.blocks import ArrayBlocks, Block
from joinery.core.blocks.partition import Partition
from joinery.core.glm.rows import ArrayRows, LikelihoodRows
from joinery.core.least_squares.solve import least_squares

MANY = 1_000_000


def _tall(width: int = 20) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(1)
    X = rng.normal(size=(MANY, width))
    return X, X.sum(axis=1) + rng.normal(size=MANY)


def solver() -> Iterator[Row]:
    """The solver on a ready matrix."""
    X, y = _tall()
    ours, theirs = in_turn(
        lambda: least_squares(ArrayBlocks(X, y)).unscaled_covariance,
        lambda: np.linalg.lstsq(X, y, rcond=None),
        3,
    )
    yield Row(
        "solve 1,000,000 × 20, κ small",
        ours,
        "numpy.linalg.lstsq",
        theirs,
        "at most 0.125",
        ours <= theirs / 8,
    )
    ours, theirs = in_turn(
        lambda: least_squares(ArrayBlocks(X, y)).unscaled_covariance, lambda: X.T @ X, 7
    )
    yield Row("the same", ours, "one X.T @ X", theirs, "at most 1.5", ours <= 1.5 * theirs)
    X[:, 1] = X[:, 0] + 1e-6 * X[:, 1]
    ours, theirs = in_turn(
        lambda: least_squares(ArrayBlocks(X, y)).unscaled_covariance,
        lambda: np.linalg.lstsq(X, y, rcond=None),
        3,
    )
    yield Row(
        "solve 1,000,000 × 20, κ = 10⁶",
        ours,
        "numpy.linalg.lstsq",
        theirs,
        "at most 0.667",
        ours <= theirs / 1.5,
    )


_FRAME = f"""
import numpy as np, pandas as pd, joinery as jn
rng = np.random.default_rng(2)
frame = pd.DataFrame(rng.normal(size=({MANY}, 10)), columns=list("abcdefhijk"))
frame["g"] = rng.choice([f"level {{i:02d}}" for i in range(20)], {MANY})
frame["y"] = frame[list("abcdefhijk")].sum(axis=1) + rng.normal(size={MANY})
warm = jn.fit(frame.head(1000), "y given a, g"); str(warm)
"""
_MATRIX = "X = np.column_stack([np.ones(len(frame)), frame[list('abcdefhijk')], pd.get_dummies(frame['g']).iloc[:, 1:]]).astype(float); y = frame['y'].to_numpy()"


def frames() -> Iterator[Row]:
    """fit() on data frames, large and small."""
    room: dict[str, object] = {}
    exec(_FRAME + _MATRIX, room)
    frame, X, y = room["frame"], room["X"], room["y"]
    sentence = "y given a, b, c, d, e, f, h, i, j, k, g"
    ours, theirs = in_turn(
        lambda: str(jn.fit(frame, sentence)), lambda: np.linalg.lstsq(X, y, rcond=None), 3
    )
    yield Row(
        "fit and short page, 1,000,000 rows",
        ours,
        "lstsq, ready matrix",
        theirs,
        "at most 0.667",
        ours <= theirs / 1.5,
    )
    grown = peak_growth(_FRAME, f"str(jn.fit(frame, {sentence!r}))")
    theirs = peak_growth(_FRAME + _MATRIX, "np.linalg.lstsq(X, y, rcond=None)") + X.nbytes / 2**20  # type: ignore[attr-defined]
    yield Row(
        "its memory over the frame",
        grown,
        "lstsq and its matrix",
        theirs,
        "at most 0.143",
        grown <= theirs / 7,
        "MB",
    )
    rng = np.random.default_rng(3)
    small = pd.DataFrame(rng.normal(size=(100, 4)), columns=list("abcy"))
    A = np.column_stack([np.ones(100), small[list("abc")]])
    b = small["y"].to_numpy()
    ours, theirs = in_turn(
        often(lambda: jn.fit(small, "y given a, b, c").coefficients(), 200),
        often(lambda: np.linalg.lstsq(A, b, rcond=None), 200),
    )
    yield Row(
        "fit(...).coefficients(), 100 rows × 3, 200 times",
        ours,
        "lstsq, ready matrix",
        theirs,
        "at most 20",
        ours <= 20 * theirs,
    )


def choosing() -> Iterator[Row]:
    """Stepwise choice and per-row figures."""
    rng = np.random.default_rng(4)
    names = [f"c{i}" for i in range(50)]
    table = pd.DataFrame(rng.normal(size=(100_000, 50)), columns=names)
    table["y"] = table[names[:8]].sum(axis=1) + rng.normal(0, 3, 100_000)
    sentence = f"y given {', '.join(names)}"
    ours, theirs = in_turn(
        lambda: jn.stepwise(table, sentence, moves="add", criterion="bic").steps,
        lambda: jn.fit(table, sentence),
        5,
    )
    work = "stepwise, 50 candidates, 100,000 rows"
    yield Row(work, ours, "one fit of all 50", theirs, "at most 1.1", ours <= 1.1 * theirs)
    table["y"] = rng.random(len(table)) < 1 / (1 + np.exp(-table["y"] / 4))
    ours, theirs = in_turn(
        lambda: jn.stepwise(table, sentence, moves="add", criterion="bic").steps,
        lambda: jn.fit(table, sentence),
        3,
    )
    work = "the same, yes or no"
    yield Row(work, ours, "one fit of all 50", theirs, "at most 10", ours <= 10 * theirs)
    X, y = _tall()
    frame = pd.DataFrame(X, columns=[f"x{i}" for i in range(20)]).assign(y=y)
    fit = jn.fit(frame, f"y given {', '.join(frame.columns[:-1])}")

    def rows() -> object:
        fit._fitted.cache.clear()
        return fit.rows()

    ours, theirs = in_turn(rows, lambda: X.T @ X, 5)
    yield Row(
        "all per-row figures, 1,000,000 × 20",
        ours,
        "one X.T @ X",
        theirs,
        "at most 4",
        ours <= 4 * theirs,
    )


@dataclass(frozen=True)
class ArrayParts:
    """Arrays as parts of a likelihood, every row weighing one."""

    X: np.ndarray
    y: np.ndarray

    @property
    def width(self) -> int:
        return int(self.X.shape[1])

    @property
    def pieces(self) -> Partition[LikelihoodRows]:
        def part(block: Block) -> LikelihoodRows:
            return LikelihoodRows(block[0], block[1], np.ones(len(block[1])), None, None)

        return ArrayBlocks(self.X, self.y).pieces.map(part)


def families() -> Iterator[Row]:
    """Generalized linear models."""
    from joinery.core.glm.families import FAMILIES
    from joinery.core.glm.irls import reweighted
    from joinery.core.glm.links import LINKS

    X, y = _tall()
    happened = (y > 0).astype(float)
    parts = ArrayParts(np.asfortranarray(X), happened)
    logistic = FAMILIES["binomial"], LINKS["logit"]
    # rows that are one piece have nowhere nearer to start than the usual place
    whole = ArrayRows(LikelihoodRows(parts.X, happened, np.ones(MANY), None, None))
    steps = reweighted(whole, *logistic, intercept=True, n=MANY).iterations

    spent, product = in_turn(
        lambda: reweighted(parts, *logistic, intercept=True, n=MANY), lambda: X.T @ X, 3
    )
    theirs = steps * product
    work = f"logistic fit 1,000,000 × 20, {steps} iterations"
    yield Row(work, spent, "iterations × one X.T @ X", theirs, "at most 2", spent <= 2 * theirs)


def starting() -> Iterator[Row]:
    """Cold starts."""
    ours, theirs = in_turn(fresh("import joinery"), fresh("import pandas, scipy.linalg"), 7)
    yield Row(
        "import joinery",
        ours,
        "import pandas, scipy.linalg",
        theirs,
        "at most 1.15",
        ours <= 1.15 * theirs,
    )
    small = "import joinery; joinery.fit({'x': [1, 2, 3, 4.5], 'y': [2, 4, 5, 9]}, 'y given x')"
    ours, theirs = in_turn(fresh(small), fresh("import pandas, scipy.linalg"), 7)
    yield Row(
        "import joinery and one small fit",
        ours,
        "import pandas, scipy.linalg",
        theirs,
        "at most 1.5",
        ours <= 1.5 * theirs,
    )
    help_text = "import sys; sys.argv = ['joinery', '--help']; from joinery.cli import main; main()"
    ours, theirs = in_turn(fresh(help_text), fresh("import pandas, scipy.linalg"), 7)
    yield Row("joinery --help", ours, "import pandas, scipy.linalg", theirs, "(told)", True)
    fit_text = (
        "import sys; sys.argv = ['joinery', 'fit', 'sample:jars', 'jars_sold given hours_open']"
    )
    fit_text += "; from joinery.cli import main; main()"
    ours, theirs = in_turn(fresh(fit_text), fresh("import pandas, scipy.linalg"), 7)
    work, yardstick = "joinery fit sample:jars …, the whole command", "import pandas, scipy.linalg"
    yield Row(work, ours, yardstick, theirs, "at most 1.5", ours <= 1.5 * theirs)


def resampling() -> Iterator[Row]:
    """The bootstrap and rehearsals, against the same in a loop."""
    rng = np.random.default_rng(5)
    X = rng.normal(size=(1000, 5))
    table = {f"x{j}": X[:, j] for j in range(5)} | {"y": X.sum(axis=1) + rng.normal(size=1000)}
    fit = jn.fit(table, "y given x0, x1, x2, x3, x4")
    A, y = np.column_stack([np.ones(1000), X]), table["y"]

    def loop() -> None:
        own = np.random.default_rng(1)
        for _ in range(2000):
            rows = own.integers(0, 1000, 1000)
            np.linalg.lstsq(A[rows], y[rows], rcond=None)

    ours, theirs = in_turn(lambda: fit.bootstrap(2000, seed=1), loop, 5)
    work, yardstick = "bootstrap 2,000 times, 1,000 rows × 5", "drawn and solved in a loop of lstsq"
    yield Row(work, ours, yardstick, theirs, "at most 0.125", 8 * ours <= theirs)
    small = np.column_stack([np.ones(50), rng.normal(size=(50, 3))])

    def many() -> None:
        for _ in range(1000):
            np.linalg.lstsq(small, rng.normal(size=50), rcond=None)

    def rehearsed() -> None:
        jn.rehearse("y given a, b, c", {"a": 1}, 50, times=1000, seed=1)

    ours, theirs = in_turn(rehearsed, many, 5)
    work = "1,000 rehearsals of 50 rows × 3"
    yield Row(work, ours, "a loop of lstsq", theirs, "at most 10", ours <= 10 * theirs)


def groups() -> Iterator[Row]:
    """A fit for each of many groups, against a loop."""
    rng = np.random.default_rng(6)
    many, size = 10_000, 100
    X = rng.normal(size=(many * size, 3))
    table = pd.DataFrame(X, columns=list("abc"))
    table["g"] = np.repeat(np.arange(many), size)
    table["y"] = 1 + X[:, 0] - 2 * X[:, 1] + rng.normal(size=len(X))
    A, y = np.column_stack([np.ones(len(X)), X]), table["y"].to_numpy()

    def loop() -> None:
        for start in range(0, len(y), size):
            np.linalg.lstsq(A[start : start + size], y[start : start + size], rcond=None)

    def each() -> None:
        fits = jn.fit_each(table, "y given a, b, c", by="g")
        assert len(fits.coefficients) == 4 * len(fits.figures)

    ours, theirs = in_turn(each, loop, 3)
    work = "fit_each, 10,000 groups of 100 rows × 3"
    yield Row(work, ours, "a loop of lstsq", theirs, "at most 3", ours <= 3 * theirs)


def sent() -> Iterator[Row]:
    """The page and the workbook to send, each of a fit that nothing was asked of before."""
    rng = np.random.default_rng(7)
    with TemporaryDirectory() as folder:
        for rows in (100, 20_000):
            table = pd.DataFrame(rng.normal(size=(rows, 6)), columns=list("abcdef"))
            table["g"] = rng.choice(list("uvwx"), rows)
            table["y"] = table[list("abcdef")].sum(axis=1) + rng.normal(size=rows)

            def fitted(table: pd.DataFrame = table) -> jn.Fit:
                return jn.fit(table, "y given a, b, c, d, e, f, g")

            ours, theirs = in_turn(
                lambda: fitted().report(f"{folder}/page.html"),
                lambda: fitted().draw("checks").savefig(f"{folder}/checks.png"),
                3,
            )
            work, yardstick = f"report of {rows:,} rows × 7 terms", 'one draw("checks")'
            yield Row(work, ours, yardstick, theirs, "at most 3", ours <= 3 * theirs)
        ours, theirs = in_turn(
            lambda: fitted().write(f"{folder}/book.xlsx"),
            lambda: table.to_csv(f"{folder}/table.csv"),
            3,
        )
        work = "workbook of 20,000 rows × 7 terms"
        yield Row(work, ours, "to_csv of the table", theirs, "at most 40", ours <= 40 * theirs)


PARTS: dict[str, Callable[[], Iterator[Row]]] = {
    "solver": solver,
    "frames": frames,
    "choosing": choosing,
    "families": families,
    "starting": starting,
    "resampling": resampling,
    "groups": groups,
    "sent": sent,
    "columns": wide.columns,
    "levels": wide.levels,
}


def main(names: list[str]) -> int:
    """Prints every row; the exit status is 1 when a target is not met."""
    for pool in threadpool_info():
        print(
            f"{pool['internal_api']} {pool.get('version')}: {pool['num_threads']} threads, {pool.get('architecture')}"
        )
    warnings.simplefilter("ignore", jn.JoineryWarning)
    met = True
    for name in names or list(PARTS):
        for row in PARTS[name]():
            print(row, flush=True)
            met &= row.met
    return 0 if met else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
