"""Where the reweighted iteration starts when rows are many, and where it may stop a pass early."""

from __future__ import annotations

import numpy as np
import pytest

from joinery.core.blocks.partition import Partition
from joinery.core.glm import warm_start
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.irls import nested, reweighted
from joinery.core.glm.links import LINKS
from joinery.core.glm.rows import ArrayRows, LikelihoodRows

SIZE, COUNT = 64, 64
LOOKED_AT = np.isin(np.arange(SIZE * COUNT) // SIZE, [8, 24, 40, 56])


class Pieces:
    """Rows in pieces of 64, which count how often one is made."""

    width = 2

    def __init__(self, X, y):
        self.X, self.y, self.made = X, y, 0

    def part(self, rows):
        self.made += 1
        return LikelihoodRows(self.X[rows], self.y[rows], np.ones(len(self.y[rows])), None, None)

    @property
    def pieces(self):
        return Partition(COUNT, lambda i, _: self.part(slice(i * SIZE, (i + 1) * SIZE)))


def both(X, y, family="binomial", link="logit"):
    """The fits to the rows in pieces and to the same rows as one, which has nowhere nearer to start."""
    rows, kind = Pieces(X, y), (FAMILIES[family], LINKS[link])
    return [
        reweighted(source, *kind, intercept=True, n=len(y))
        for source in (rows, ArrayRows(rows.part(slice(None))))
    ]


def drawn(family, link, seed=1):
    rng = np.random.default_rng(seed)
    X = np.column_stack([rng.uniform(-1, 1, SIZE * COUNT), rng.integers(0, 2, SIZE * COUNT)])
    about = {"log": -1.2, "identity": 0.5}.get(link, -0.3) if family == "binomial" else 2.0
    mean = LINKS[link].mu(X @ ([0.3, -0.2] if link == "identity" else [0.6, -0.4]) + about)
    draw = {
        "binomial": lambda: rng.random(len(mean)) < mean,
        "poisson": lambda: rng.poisson(mean),
        "negative-binomial": lambda: rng.poisson(mean * rng.gamma(2, 0.5, len(mean))),
    }.get(family, lambda: mean * rng.gamma(8, 1 / 8, len(mean)))
    return X, draw().astype(float)


@pytest.fixture
def begun(monkeypatch):
    """What starts from some pieces came to, in turn: None where they could not tell."""
    real, found = warm_start._from_some_rows, []
    monkeypatch.setattr(
        warm_start, "_from_some_rows", lambda problem: found.append(real(problem)) or found[-1]
    )
    return found


@pytest.mark.sampled(3)
@pytest.mark.simulation
@pytest.mark.parametrize(
    ("family", "link"),
    [(family, link) for family in FAMILIES for link in FAMILIES[family].links],
)
def test_the_fit_is_that_from_the_usual_start(family, link, begun):
    near, far = both(*drawn(family, link), family, link)
    assert np.allclose(near.b, far.b, rtol=1e-11, atol=1e-13)
    assert near.deviance == pytest.approx(far.deviance, rel=1e-12)
    at_once = (family, link) in [("normal", "identity"), ("inverse-gaussian", "inverse")]
    assert any(begun) != at_once


def rare(X, y):
    return X, np.where(LOOKED_AT, 0.0, y)


def always(X, y):
    return X, np.where(LOOKED_AT, X[:, 0] > 0, y).astype(float)


def the_other_way_round(X, y):
    steep = np.where(LOOKED_AT, -6, 6) * X[:, 0]
    return X, (np.random.default_rng(2).random(len(y)) < 1 / (1 + np.exp(-steep))).astype(float)


def one_level(X, y):
    return np.column_stack([X[:, 0], np.where(LOOKED_AT, 0, X[:, 1])]), y


def far_away(X, y):
    return X + np.array([3e6, 0]), y


def never_apart(X, y):
    return np.column_stack([X[:, 0], 2 * X[:, 0] + 1]), y


@pytest.mark.parametrize(
    "misled", [rare, always, the_other_way_round, one_level, far_away, never_apart]
)
def test_pieces_that_mislead_do_no_harm(misled, begun):
    near, far = both(*misled(*drawn("binomial", "logit")))
    assert near.converged
    assert near.solution.kept.tolist() == far.solution.kept.tolist()
    assert np.allclose(near.b, far.b, rtol=1e-9 if misled is far_away else 1e-11)
    assert begun[1] is None  # the first is that of the pieces themselves


def test_a_start_near_the_end_saves_passes(monkeypatch):
    X, link = drawn("binomial", "probit")[0], "probit"
    happened = np.random.default_rng(2).random(len(X)) < LINKS[link].mu(4 * X[:, 0] - 1)
    rows, made = Pieces(X, happened.astype(float)), []
    for share in (warm_start.SHARE, COUNT):
        monkeypatch.setattr(warm_start, "SHARE", share)
        rows.made = 0
        reweighted(rows, FAMILIES["binomial"], LINKS[link], intercept=True, n=len(X))
        made.append(rows.made / COUNT)
    assert made[0] < made[1] - 3


@pytest.mark.parametrize(("family", "link"), [("binomial", "logit"), ("poisson", "log")])
@pytest.mark.parametrize("off", [0.3, 1e-2, 1e-3, 1e-4, 1e-5, 1e-6, 1e-8])
def test_the_end_is_told_from_near_it_as_steps_find_it(family, link, off):
    X, y = drawn(family, link)
    rows, kind = Pieces(X, y), (FAMILIES[family], LINKS[link])
    there = reweighted(rows, *kind, intercept=True, n=len(y))
    start, rows.made = there.b + off * np.array([1, -1, 1]), 0
    deviance, b = nested(rows, *kind, start, intercept=True, n=len(y), dispersion=1.0)
    assert deviance == pytest.approx(there.deviance, rel=1e-13, abs=0)
    assert np.allclose(b, there.b, rtol=1e-5)
    # a pass of products and one of η at the start, and the same again where that is far
    assert rows.made / COUNT <= (2 if off < 1e-4 else 6)
