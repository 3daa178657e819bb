"""One thread for each product of matrices: the cores go through blocks, in a fixed order.

A product that BLAS shares out among threads has other last bits with another number of them."""

from __future__ import annotations

import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

_lock = threading.Lock()
_inside = 0  # how many calls are under way, in whatever thread
_before: list[tuple[Any, int]] = []  # the libraries, and how many threads each had before
_loaded: dict[bool, list[Any]] = {}


@contextmanager
def one_thread_a_product() -> Iterator[None]:
    """Keep the products of matrices to one thread each while a call is under way.

    Calls may lie inside one another or side by side: the first sets the limit and the last takes
    it away.
    """
    global _inside
    with _lock:
        if not _inside:
            _before[:] = [(library, library.num_threads) for library in _libraries()]
            for library, _ in _before:
                library.set_num_threads(1)
        _inside += 1
    try:
        yield
    finally:
        with _lock:
            _inside -= 1
            if not _inside:
                for library, threads in _before:
                    library.set_num_threads(threads)


def _libraries() -> list[Any]:
    """Return the libraries of linear algebra that are loaded; SciPy brings another one than
    NumPy."""
    both = "scipy.linalg" in sys.modules
    if both not in _loaded:
        from threadpoolctl import ThreadpoolController

        every = ThreadpoolController().lib_controllers
        _loaded[both] = [library for library in every if library.user_api == "blas"]
    return _loaded[both]
