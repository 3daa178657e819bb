"""What the tests share: the sample fits, exact arithmetic, and the command line run in place."""

from __future__ import annotations

from collections import Counter

import mpmath
import numpy as np
import pytest

import joinery as jn
from tests import engines
from tests.draws import FULL

mpmath.mp.dps = 60


@pytest.fixture(scope="session")
def yields():
    return jn.sample_data("yields")


@pytest.fixture(scope="session")
def honey(yields):
    """A fit with numbers, a category, a power, a product and rows left out."""
    sentence = "honey_kg given forage_km2, altitude_m, altitude_m^2, feed_kg, rain_days, feed_kg * rain_days, hive_type"
    return jn.fit(yields, sentence, id="hive")


@pytest.fixture(scope="session")
def postgres_url():
    """The URL of a real PostgreSQL server, started for the tests."""
    with engines.postgres_server() as url:
        yield url


class Exact:
    """Weighted least squares in 60-digit arithmetic, by the normal equations: the truth the solver is held to."""

    def __init__(self, A, y, w=None):
        A = mpmath.matrix(A if isinstance(A, list) else np.asarray(A, float).tolist())
        y = mpmath.matrix(np.asarray(y, float).tolist())
        W = mpmath.diag(
            [mpmath.mpf(1)] * A.rows if w is None else [mpmath.mpf(float(v)) for v in w]
        )
        G = A.T * W * A
        self.inverse = G**-1
        self.b = self.inverse * (A.T * W * y)
        self.e = y - A * self.b
        self.rss = (self.e.T * W * self.e)[0]
        self.df = A.rows - A.cols
        s2 = self.rss / self.df if self.df > 0 else mpmath.nan
        self.se = [mpmath.sqrt(s2 * self.inverse[i, i]) for i in range(A.cols)]


@pytest.fixture(scope="session")
def exact():
    return Exact


def digits(found, truth) -> float:
    """The fewest correct significant digits over all the figures."""
    worst = 17.0
    for a, b in zip(np.atleast_1d(found), truth, strict=True):
        if a != b:
            error = abs((mpmath.mpf(float(a)) - b) / b) if b else abs(mpmath.mpf(float(a)))
            worst = min(worst, float(-mpmath.log10(error)) if error else 17.0)
    return worst


@pytest.fixture(scope="session")
def correct_digits():
    return digits


# tests that drive other programs, or every command and example: ``make quick`` leaves them out
ENGINES = {"journeys", "identities", "test_watch.py", "test_streams.py", "test_commands.py"}

# whole files of many fits or pictures, which take long together
LONG = {
    "test_pictures.py",
    "test_many.py",
    "test_together.py",
    "test_ends.py",
    "test_equations.py",
    "test_unseen.py",
    "test_bootstrap.py",
    "test_doors.py",
    "test_rehearse.py",
    "test_stepwise.py",
    "test_arguments.py",
    "test_registries.py",
    "test_saved.py",
    "test_pickles.py",
    "test_families.py",
    "test_starts.py",
    "test_levelled.py",
    "test_covariance.py",
    "test_forecast.py",
    "test_anova.py",
    "test_understand.py",
    "test_advice.py",
    "test_doors_in.py",
    "test_look.py",
    "test_checks.py",
    "test_show.py",
}


def pytest_collection_modifyitems(config, items):
    """Mark tests by where they stand; long simulations are marked one by one."""
    for item in items:
        if ENGINES & set(item.path.parts):
            item.add_marker(pytest.mark.engine)
        elif item.path.name in LONG:
            item.add_marker(pytest.mark.simulation)
    if FULL:
        return
    kept, left, seen = [], [], Counter()
    for item in items:
        if sampled := item.get_closest_marker("sampled"):
            seen[item.function] += 1
            wanted = seen[item.function] % sampled.args[0] == 1
        else:
            wanted = True
        (kept if wanted else left).append(item)
    config.hook.pytest_deselected(items=left)
    items[:] = kept


@pytest.fixture
def of_the_model_alone(monkeypatch):
    """Pages without what is looked at in tables in memory alone: odd cells, unused columns."""
    from joinery.study.check import facts, unused

    for module in (facts, unused):
        monkeypatch.setattr(module, "in_memory", lambda fit: None)
