"""Fits made side by side in threads give the same bits as one after another."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np

import joinery as jn


def test_fits_in_eight_threads_give_the_same_bits():
    rng = np.random.default_rng(5)
    n = 20_000
    x = rng.normal(size=(n, 3))
    table = {
        "a": x[:, 0],
        "b": x[:, 1],
        "c": x[:, 0] + 1e-6 * x[:, 2],
        "g": rng.choice(list("uvw"), n),
    }
    table["y"] = x.sum(axis=1) + rng.normal(size=n)
    sentences = [
        "y given a, b, g",
        "y given a, b, c",
        "y given a * g, spline(b, columns=3)",
        "y given polynomial(a, 3)",
    ] * 4

    def figures(sentence):
        fit = jn.fit(table, sentence)
        return fit.coefficients().render("csv") + fit.overall().render("csv") + str(fit)

    alone = [figures(s) for s in sentences[:4]] * 4
    with ThreadPoolExecutor(8) as pool:
        assert list(pool.map(figures, sentences)) == alone
