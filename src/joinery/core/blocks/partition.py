"""Something made piece by piece, and passes over it on several cores.

The pieces are a fixed partition and what a pass finds in them comes in their order, so that the
number of cores does not change a bit of any sum."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Generic, Protocol, TypeVar

import numpy as np

Made = TypeVar("Made", covariant=True)
Other = TypeVar("Other")
Found = TypeVar("Found")

FEW_PIECES = 4  # fewer pieces are gone through sooner than threads are started
NARROW_COLUMNS = 40  # columns, up to which a product of a piece stays in cache a few rows at a time
MOST_CORES = 8  # more would wait for memory


class Runner(Protocol):
    """Goes through pieces elsewhere than in this process's own threads."""

    def run(self, partition: Partition[Made], work: Callable[[Made], Found]) -> Iterator[Found]:
        """Return what ``work`` finds in each piece, in their order."""
        ...

    def of(self, parts: Sequence[int]) -> Runner:
        """Return the same for pieces that lie in these parts of the table."""
        ...

    def only(self, pieces: Sequence[int]) -> Runner:
        """Return the same for some of its pieces alone."""
        ...


Watch = Callable[[], AbstractContextManager[Callable[[int], None]]]


@dataclass(frozen=True)
class Partition(Generic[Made]):
    """So many pieces, each made when asked for.

    ``make`` takes a piece's number and room to make it in, an array from ``workspace`` that one
    piece after another may stand in, or None for fresh memory. ``runner`` goes through the pieces
    where they are, on a cluster; ``watch`` is told of each piece that is done."""

    count: int
    make: Callable[[int, np.ndarray | None], Made]
    workspace: Callable[[], np.ndarray | None] = lambda: None
    runner: Runner | None = None
    watch: Watch | None = None

    def __len__(self) -> int:
        return self.count

    def __iter__(self) -> Iterator[Made]:
        """Yield each piece in memory of its own."""
        return (self.make(i, None) for i in range(self.count))

    def map(self, turn: Callable[[Made], Other]) -> Partition[Other]:
        """Return the same pieces, each turned into something else when it is made."""
        return self.remade(lambda i, workspace: turn(self.make(i, workspace)))

    def only(self, *pieces: int) -> Partition[Made]:
        """Return some of the pieces, as a partition of their own."""
        runner = self.runner and self.runner.only(pieces)
        make = self.make
        return Partition(len(pieces), lambda i, room: make(pieces[i], room), self.workspace, runner)

    def remade(self, make: Callable[[int, np.ndarray | None], Other]) -> Partition[Other]:
        """Return the same pieces, made in another way."""
        return Partition(self.count, make, self.workspace, self.runner, self.watch)

    def each(self, work: Callable[[Made], Found]) -> Iterator[Found]:
        """Yield what ``work`` finds in each piece, in their order.

        It must keep nothing of the piece itself.
        """
        if self.watch is None:
            yield from self._results(work)
            return
        with self.watch() as advance:
            for part in self._results(work):
                advance(1)
                yield part

    def _results(self, work: Callable[[Made], Found]) -> Iterator[Found]:
        if self.runner is not None:
            yield from self.runner.run(self, work)
            return
        if self.count >= FEW_PIECES:
            workers = min(cores(), self.count)
        else:
            workers = 1
        if workers == 1:
            if self.count > 1:
                workspace = self.workspace()
            else:
                workspace = None
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


class Laid:
    """Arrays of ``n`` values each, laid out as their parts come: none stands there twice."""

    def __init__(self, n: int) -> None:
        self.n, self.start = n, 0
        self.arrays: list[np.ndarray] = []

    def add(self, parts: Sequence[np.ndarray]) -> None:
        """The next values of each array."""
        self.arrays = self.arrays or [np.empty(self.n, values.dtype) for values in parts]
        stop = self.start + len(parts[0])
        for every, values in zip(self.arrays, parts, strict=True):
            every[self.start : stop] = values
        self.start = stop


def joined(pieces: Partition[Made], work: Callable[[Made], np.ndarray]) -> np.ndarray:
    """Return what ``work`` finds in each piece, an array for its rows, as one array."""
    return np.concatenate(list(pieces.each(work)))


def physical_memory() -> int:
    """Return the machine's memory in bytes; 8 GB where it cannot be told."""
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (AttributeError, ValueError, OSError):
        return 8 * 2**30


def cores() -> int:
    """Return how many threads a pass may use: the cores, or fewer if OMP_NUM_THREADS says so."""
    if hasattr(os, "sched_getaffinity"):
        available = len(os.sched_getaffinity(0))
    else:
        available = os.cpu_count() or 1
    limit = os.environ.get("OMP_NUM_THREADS", "")
    return max(1, min(available, MOST_CORES, int(limit) if limit.isdecimal() else available))
