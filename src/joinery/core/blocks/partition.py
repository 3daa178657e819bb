"""Something made piece by piece, and passes over it on several cores.

The pieces are a fixed partition and what a pass finds in them comes in their order, so that the
number of cores does not change a bit of any sum."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np

Made = TypeVar("Made", covariant=True)
Other = TypeVar("Other")
Found = TypeVar("Found")

FEW = 4  # fewer pieces are gone through sooner than threads are started
NARROW = 40  # wider pieces leave the cores to the products of matrices themselves
MOST_CORES = 8  # more would wait for memory


@dataclass(frozen=True)
class Partition(Generic[Made]):
    """So many pieces, each made when asked for.

    ``make`` takes a piece's number and room to make it in, an array from ``workspace`` that one
    piece after another may stand in, or None for fresh memory. ``shared`` is False where passes had
    better keep to one thread."""

    count: int
    make: Callable[[int, np.ndarray | None], Made]
    workspace: Callable[[], np.ndarray | None] = lambda: None
    shared: bool = True

    def __len__(self) -> int:
        return self.count

    def __iter__(self) -> Iterator[Made]:
        """Each piece in memory of its own."""
        return (self.make(i, None) for i in range(self.count))

    def map(self, turn: Callable[[Made], Other]) -> Partition[Other]:
        """The same pieces, each turned into something else when it is made."""
        return Partition(
            self.count,
            lambda i, workspace: turn(self.make(i, workspace)),
            self.workspace,
            self.shared,
        )

    def each(self, work: Callable[[Made], Found]) -> Iterator[Found]:
        """What ``work`` finds in each piece, in their order.

        It must keep nothing of the piece itself.
        """
        workers = min(cores(), self.count) if self.shared and self.count >= FEW else 1
        if workers == 1:
            workspace = self.workspace() if self.count > 1 else None
            yield from (work(self.make(i, workspace)) for i in range(self.count))
            return
        local, handling = threading.local(), np.geterr()

        def one(i: int) -> Found:
            if not hasattr(local, "workspace"):
                local.workspace = self.workspace()
            with np.errstate(**handling):  # each thread would begin with its own
                return work(self.make(i, local.workspace))

        crew = ThreadPoolExecutor(workers)
        try:
            yield from crew.map(one, range(self.count))
        finally:
            crew.shutdown(cancel_futures=True)


def joined(pieces: Partition[Made], work: Callable[[Made], np.ndarray]) -> np.ndarray:
    """What ``work`` finds in each piece, an array for its rows, as one array."""
    return np.concatenate(list(pieces.each(work)))


def physical_memory() -> int:
    """Return the machine's memory in bytes; 8 GB where it cannot be told."""
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (AttributeError, ValueError, OSError):
        return 8 * 2**30


def cores() -> int:
    """Return how many threads a pass may use: the cores, or fewer if OMP_NUM_THREADS says so."""
    available = (
        len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    )
    limit = os.environ.get("OMP_NUM_THREADS", "")
    return max(1, min(available, MOST_CORES, int(limit) if limit.isdecimal() else available))
