"""Passes on several cores find what one core finds, to the bit; small products equal whole ones."""

from __future__ import annotations

import threading
import time

import numpy as np
import pytest

from joinery.core.blocks import products
from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.blocks.partition import Partition, joined
from joinery.core.least_squares.solve import least_squares


@pytest.fixture(params=["1", "2", "7"])
def cores(request, monkeypatch):
    monkeypatch.setenv("OMP_NUM_THREADS", request.param)
    monkeypatch.setattr("os.sched_getaffinity", lambda _: set(range(7)), raising=False)
    return int(request.param)


def test_what_pieces_hold_comes_in_their_order_from_so_many_threads(cores):
    together, names = threading.Barrier(cores), set()

    def work(i):
        if i < cores:
            together.wait(20)  # nobody goes on before all threads are there
        names.add(threading.current_thread().name)
        return np.array([i, i * i])

    pieces = Partition(50, lambda i, workspace: i)
    assert joined(pieces, work).tolist() == [v for i in range(50) for v in (i, i * i)]
    assert len(names) == cores
    assert list(pieces.map(lambda i: -i)) == [-i for i in range(50)]


def test_room_is_one_threads_own_and_warnings_are_handled_as_outside(cores):
    pieces = Partition(60, lambda i, workspace: (i, workspace), lambda: np.zeros(4000))

    def work(made):
        i, workspace = made
        workspace[:] = i
        return float(workspace.sum() / 4000), float(np.log(np.zeros(1) - i)[0])

    with np.errstate(all="ignore"):
        found = list(pieces.each(work))
    assert [v for v, _ in found] == list(range(60))
    with np.errstate(all="raise"), pytest.raises(FloatingPointError):
        list(pieces.each(work))


def test_an_error_in_a_piece_ends_the_pass(cores):
    begun = []

    def work(i):
        begun.append(i)
        if i == 3:
            raise ValueError("piece 3")
        time.sleep(0.001)  # or a busy machine would be through all pieces before it looks
        return i

    with pytest.raises(ValueError, match="piece 3"):
        list(Partition(5000, lambda i, workspace: i).each(work))
    assert len(begun) < 5000


@pytest.mark.parametrize("far", [0.0, 1e6])
def test_the_number_of_cores_does_not_change_a_bit(monkeypatch, far):
    rng = np.random.default_rng(5)
    X = rng.normal(far, 1, (40_000, 6))
    X[:, 1] = X[:, 0] + (1e-5 if far else 1) * X[:, 1]
    y, w = X.sum(axis=1) + rng.normal(size=len(X)), rng.uniform(1, 2, len(X))
    found = []
    for count in ("1", "2", "5"):
        monkeypatch.setenv("OMP_NUM_THREADS", count)
        monkeypatch.setattr("os.sched_getaffinity", lambda _: set(range(5)), raising=False)
        s = least_squares(ArrayBlocks(X, y, w, 3000))
        found.append(
            (s.way, s.intercept, s.rss, s.coefficients.tobytes(), s.unscaled_covariance.tobytes())
        )
    assert found[0] == found[1] == found[2]
    assert found[0][0] == ("exact" if far else "quick")


@pytest.mark.parametrize("order", "CF")
@pytest.mark.parametrize(
    ("m", "k"), [(3, 2), (100, 0), (5000, 1), (9001, 20), (4097, 45), (3000, 230)]
)
def test_small_products_equal_whole_ones(m, k, order):
    rng = np.random.default_rng(m + k)
    Z, b, W = (
        np.asarray(rng.normal(size=(m, k)), order=order),
        rng.normal(size=k),
        rng.normal(size=(2, m)),
    )
    A = rng.normal(size=(3, k))
    for ours, plain in [
        (products.gram(Z), Z.T @ Z),
        (products.times(Z, b), Z @ b),
        (products.weighted_sums(W[0], Z), W[0] @ Z),
        (products.weighted_sums(W, Z), W @ Z),
        (products.times_transpose(A, Z), A @ Z.T),
    ]:
        assert ours.shape == plain.shape
        np.testing.assert_allclose(ours, plain, rtol=1e-11, atol=1e-10)
    assert products.inner(W[0], W[1]) == pytest.approx(float(W[0] @ W[1]), rel=1e-11)
