"""Dask DataFrames, and passes over rows where they are: on the workers of a cluster.

A pass sends each part's worker what is to be done (a few kilobytes) and gets back what it found,
block by block in the parts' order, so that neither the number of workers nor one that dies changes
a bit: what a dead worker had is made again by another."""

from __future__ import annotations

import pickle
import sys
import threading
import time
import uuid
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from typing import Any, cast

import numpy as np
import pandas as pd
import pyarrow as pa
from dask.base import compute
from dask.delayed import delayed

from joinery.core.blocks.partition import Partition, Runner, cores
from joinery.data.sources.source import STRETCH
from joinery.support.errors import ClusterError, DataError, JoineryError
from joinery.support.threads import one_thread_a_product

FILES_TOGETHER = 8  # pieces of files that go to a worker at once
PARTS_TOGETHER = 16  # at most, parts of one worker in one task, which costs the scheduler time
LOOK_SECONDS = 5.0  # how often it is looked whether the cluster has workers still
PATIENCE_SECONDS = 300.0  # how long a cluster may be without any: one that grows takes minutes
PARTS_A_THREAD = 4  # under way at a time, so that what is found does not heap up


@dataclass(frozen=True)
class DaskSource:
    """A Dask DataFrame; its parts are its partitions, which stay where they are."""

    key: str  # tells it from others where parts are at hand
    schema: pa.Schema
    lengths: tuple[int, ...]
    delayed: tuple[Any, ...] = ()  # the parts: futures on a cluster; none of them on a worker
    name: str = "the table"
    keep: Any = None  # what the parts are made of, which the cluster would forget without it
    apart = True

    def __getstate__(self) -> dict[str, Any]:
        return {"key": self.key, "schema": self.schema, "lengths": self.lengths, "name": self.name}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state | {"delayed": (), "keep": None})

    @cached_property
    def runner(self) -> Runner:
        return Cluster(self.key, self.delayed)

    def expect(self, columns: Sequence[str]) -> None:
        """Parts are in memory, whichever columns are asked for."""

    def read(self, part: int, column: str) -> Iterator[pa.Array]:
        here = getattr(_AT_HAND, "parts", {}).get((self.key, part))
        if here is None:
            if not self.delayed:
                raise DataError(
                    "rows of another part of the table are needed here, which a worker does not "
                    "have; lag() and the like need a table on one machine: files, or a frame"
                )
            series = next(results(_column, [(self.delayed[part], column)]))
        else:
            series = here[column]
        array = _arrow(series, self.schema.field(column).type)
        for start in range(0, len(array), STRETCH):
            yield array.slice(start, STRETCH)


_AT_HAND = threading.local()  # the part that this thread works on


def _arrow(series: pd.Series, kind: pa.DataType) -> pa.Array:
    if isinstance(series.dtype, np.dtype) and series.dtype.kind in "fiu":
        return pa.array(series.to_numpy())  # as they are, without a copy
    array = pa.array(series, from_pandas=True)
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    if pa.types.is_null(array.type) or not pa.types.is_dictionary(array.type):
        array = array.cast(kind if not pa.types.is_dictionary(kind) else kind.value_type)
    return array


def of_dask(frame: Any) -> DaskSource:
    """Return a Dask DataFrame as a source: how long its parts are is counted in a pass.

    On a cluster the parts are made once and kept on the workers as long as the source is used;
    a part that is lost with its worker is made again.
    """
    parts = tuple(frame.to_delayed())
    if (client := _active_client()) is not None:
        parts = tuple(client.compute(list(parts)))
    collected = list(results(_shape_of, [(part,) for part in parts]))
    fields = []
    for at, name in enumerate(map(str, frame.columns)):
        kinds = [kind for _, member in collected if not pa.types.is_null(kind := member[at])]
        fields.append(pa.field(name, _common(kinds)))
    lengths = tuple(length for length, _ in collected)
    return DaskSource(uuid.uuid4().hex, pa.schema(fields), lengths, parts, keep=frame)


def _shape_of(part: pd.DataFrame) -> tuple[int, list[pa.DataType]]:
    """Return how long a part is, and its columns' types."""
    return len(part), [f.type for f in pa.Schema.from_pandas(part, preserve_index=False)]


def _common(kinds: list[pa.DataType]) -> pa.DataType:
    """Return one type for a column whose parts may have several."""
    if not kinds:
        return pa.null()
    if all(kind == kinds[0] for kind in kinds) or pa.types.is_dictionary(kinds[0]):
        return kinds[0]
    joined = pa.unify_schemas(
        [pa.schema([("x", kind)]) for kind in kinds], promote_options="permissive"
    )
    return joined.field("x").type


@dataclass(frozen=True)
class Cluster:
    """Runs passes over rows on workers: where the parts of a Dask DataFrame are, or over files.

    Pieces of files are those of one machine, so the same bits come out."""

    key: str
    delayed: tuple[Any, ...] = ()  # the parts of a Dask DataFrame
    part_of: tuple[int, ...] = ()  # of each piece

    def of(self, parts: Sequence[int]) -> Cluster:
        return Cluster(self.key, self.delayed, tuple(parts))

    def only(self, pieces: Sequence[int]) -> Cluster:
        if self.part_of:
            parts = tuple(self.part_of[piece] for piece in pieces)
        else:
            parts = ()
        return Cluster(self.key, self.delayed, parts)

    def run(self, partition: Partition[Any], work: Callable[[Any], Any]) -> Iterator[Any]:
        import cloudpickle

        task = cloudpickle.dumps((partition.make, partition.workspace, work, np.geterr()))
        calls = [
            (
                task,
                self.key,
                [part for part, _ in member],
                self._frames(member),
                [p for _, p in member],
            )
            for member in self._tasks(partition.count)
        ]
        ready: dict[int, Any] = {}
        wanted = 0
        for (*_, pieces), outcome in zip(calls, results(_pass, calls), strict=True):
            if isinstance(outcome, JoineryError):
                raise outcome
            together = [piece for member in pieces for piece in member]
            ready |= zip(together, pickle.loads(outcome), strict=True)
            while wanted in ready:
                yield ready.pop(wanted)
                wanted += 1

    def _frames(self, members: Sequence[tuple[int, list[int]]]) -> list[Any]:
        if self.delayed:
            return [self.delayed[part] for part, _ in members]
        return []

    def _tasks(self, count: int) -> list[list[tuple[int, list[int]]]]:
        """Return what is worked on together: a few parts of one worker, or a few pieces of
        files."""
        if not self.delayed:
            starts = range(0, count, FILES_TOGETHER)
            return [[(-1, list(range(a, min(a + FILES_TOGETHER, count))))] for a in starts]
        pieces: dict[int, list[int]] = {}
        for piece, part in enumerate(self.part_of):
            pieces.setdefault(part, []).append(piece)
        tasks: list[list[tuple[int, list[int]]]] = []
        open_of: dict[Any, list[tuple[int, list[int]]]] = {}
        places, threads = _places([self.delayed[part] for part in pieces])
        for member, place in zip(pieces.items(), places, strict=True):
            # two tasks for each thread at least, of one size, so that none waits for the others
            here = places.count(place)
            shares = max(2 * threads.get(place, 1), -(-here // PARTS_TOGETHER))
            together = open_of.get(place)
            if together is None or len(together) >= -(-here // shares):
                together = open_of[place] = []
                tasks.append(together)
            together.append(member)
        return tasks


def for_files() -> Cluster | None:
    """Return what goes through files on a cluster, where a client of one is active."""
    if "distributed" not in sys.modules or _active_client() is None:
        return None
    return Cluster("files")


def _places(parts: Sequence[Any]) -> tuple[list[Any], dict[Any, int]]:
    """Return the worker that has each part, as far as the scheduler knows, and each one's
    threads."""
    client = _active_client()
    if client is not None and all(hasattr(part, "status") for part in parts):
        with suppress(Exception):  # of a cluster that is gone, which the pass itself will say
            at = client.who_has(list(parts))
            return [next(iter(sorted(at.get(p.key, ()))), None) for p in parts], client.nthreads()
    return list(range(len(parts))), {}


@one_thread_a_product()
def _pass(
    task: bytes, key: str, parts: list[int], frames: list[pd.DataFrame], pieces: list[list[int]]
) -> bytes | JoineryError:
    """Return what work finds in the pieces of some parts, or why the table cannot be used."""
    make, workspace, work, handling = pickle.loads(task)
    _AT_HAND.parts = {(key, part): frame for part, frame in zip(parts, frames)}
    together = [piece for member in pieces for piece in member]
    try:
        with np.errstate(**handling):
            if len(together) > 1:
                room = workspace()
            else:
                room = None
            return pickle.dumps([work(make(piece, room)) for piece in together])
    except JoineryError as reason:
        return reason
    finally:
        _AT_HAND.parts = {}


def _column(part: pd.DataFrame, column: str) -> pd.Series:
    return part[column]


def results(work: Callable[..., Any], calls: Sequence[tuple[Any, ...]]) -> Iterator[Any]:
    """Yield what ``work`` gives for each of the arguments, in their order, a few under way at a
    time.

    On the cluster whose client is active, else in this process's threads. Raises ClusterError
    where a worker or the scheduler fails for good.
    """
    client = _active_client()
    if client is None:
        yield from _in_threads(work, calls)
        return
    waiting: deque[Any] = deque()
    try:
        if client.status != "running":
            raise ConnectionError(f"the client is {client.status}")
        ahead = PARTS_A_THREAD * max(sum(client.nthreads().values()), 1)
        for start in range(0, len(calls), ahead):
            waiting += client.map(work, *zip(*calls[start : start + ahead]), pure=False)
            while len(waiting) > ahead // 2 or (waiting and start + ahead >= len(calls)):
                yield _waited_for(client, waiting.popleft())
    except Exception as reason:
        with suppress(Exception):  # of a cluster that is gone
            client.cancel(list(waiting), force=True)
        raise _failed(reason) from reason


class NoWorkersError(Exception):
    """A cluster has had no worker for so long that none is likely to come."""


def _waited_for(client: Any, future: Any) -> Any:
    """Return a result. Raises NoWorkersError where no worker has been there for long.

    The scheduler itself would wait for another worker without end."""
    last_seen = time.monotonic()
    while True:
        try:
            return future.result(timeout=LOOK_SECONDS)
        except TimeoutError:
            if future.done():  # meanwhile, or the work's own error
                return future.result()
        now = time.monotonic()
        if client.nthreads():
            last_seen = now
        elif now - last_seen > PATIENCE_SECONDS:
            raise NoWorkersError


def _in_threads(work: Callable[..., Any], calls: Sequence[tuple[Any, ...]]) -> Iterator[Any]:
    some, run = cores(), cast(Callable[..., tuple[Any, ...]], compute)
    for start in range(0, len(calls), some):
        requested = [delayed(work, pure=False)(*given) for given in calls[start : start + some]]
        try:
            result = run(*requested, scheduler="threads")
        except Exception as reason:
            raise _failed(reason) from reason
        yield from result


def _active_client() -> Any:
    try:
        from distributed import get_client

        return get_client()
    except (ImportError, ValueError):
        return None


LOST = (
    *("CommClosedError", "FutureCancelledError", "CancelledError", "TimeoutError"),
    *("ConnectionError", "ClosedClientError"),
)


def _failed(reason: Exception) -> JoineryError:
    """Return why a pass over a cluster's rows failed, in words."""
    kind = type(reason).__name__
    words = str(reason).strip().split("\n")[0][:300]
    if kind == "KilledWorker":
        return ClusterError(
            "a worker died repeatedly on the same part of the table, most likely for want "
            "of memory; cut the table into smaller parts (repartition), or give workers more"
        )
    if isinstance(reason, NoWorkersError):
        return ClusterError(
            f"the cluster has had no worker for {PATIENCE_SECONDS:.0f} seconds; start some, and "
            "fit again"
        )
    if kind in LOST:
        return ClusterError(
            f"the cluster's scheduler was lost in the middle of a pass ({kind}: {words}); start "
            "it again and fit again"
        )
    return ClusterError(f"a part of the table could not be worked on: {kind}: {words}")
