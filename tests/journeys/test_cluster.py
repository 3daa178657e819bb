"""A cluster of worker processes: the same bits on any number of them, also when one dies."""

from __future__ import annotations

import os
import signal
import threading
import time
import warnings
from contextlib import ExitStack
from itertools import pairwise
from unittest import mock

import dask.config as dask_config
import dask.dataframe as dask
import numpy as np
import pandas as pd
import pytest
from dask.delayed import delayed
from distributed import Client, LocalCluster

import joinery as jn
from joinery.data import any_table
from joinery.data.sources import cluster as cluster_source
from joinery.study.check import facts, unused
from tests.draws import FULL

warnings.filterwarnings("ignore", module="distributed")
pytestmark = pytest.mark.filterwarnings("ignore")  # of the cluster's own shutting down
RNG = np.random.default_rng(7)
N = 24_000
TABLE = pd.DataFrame({"x": RNG.normal(size=N), "z": RNG.gamma(2, size=N)})
TABLE["g"] = RNG.choice(["long", "short", "top"], N)
TABLE["y"] = TABLE["x"] + (TABLE["g"] == "long") + RNG.normal(size=N)
TABLE["yes"] = RNG.random(N) < 1 / (1 + np.exp(-TABLE["x"]))
TABLE.loc[RNG.choice(N, 100, replace=False), "z"] = np.nan
SENTENCES = ("y given centred(x), spline(z), g", "yes given x, g")


def parts() -> dask.DataFrame:
    """Parts of uneven lengths, one of them empty."""
    cuts = [0, 5000, 5000, 9000, 16_000, N]
    return dask.concat(
        [
            dask.from_pandas(TABLE.iloc[a:b].reset_index(drop=True), npartitions=1)
            for a, b in pairwise(cuts)
        ]
    )


def figures(data) -> list[pd.DataFrame]:
    out = []
    for sentence in SENTENCES:
        fit = jn.fit(data, sentence)
        out += [fit.coefficients().frame, fit.anova().frame, fit.overall().frame]
        with ExitStack() as looked_at:  # in memory alone: odd cells, unused columns
            for module in (facts, unused):
                looked_at.enter_context(mock.patch.object(module, "in_memory", return_value=None))
            page = str(fit)
    return [*out, pd.DataFrame({"page": page.splitlines()})]


@pytest.fixture(scope="module")
def here() -> list[pd.DataFrame]:
    """What this process finds in the same parts, without a cluster."""
    return figures(parts())


def started(workers: int, **limits: str) -> LocalCluster:
    """Worker processes of one thread each, which say nothing."""
    quiet = {"dashboard_address": None, "silence_logs": 50}
    return LocalCluster(n_workers=workers, threads_per_worker=1, **quiet, **limits)


@pytest.fixture(scope="module")
def made():
    with started(2) as cluster, Client(cluster):
        yield cluster


@pytest.fixture
def cluster(made, request):
    """A cluster of so many workers, each a process of one thread."""
    workers = getattr(request, "param", 2)
    with Client(made) as client:
        made.scale(workers)
        client.wait_for_workers(workers, timeout=60)
        yield made


def same(a: list[pd.DataFrame], b: list[pd.DataFrame]) -> None:
    for one, other in zip(a, b, strict=True):
        pd.testing.assert_frame_equal(one, other, check_exact=True)


def test_parts_give_what_one_frame_gives_to_twelve_digits(here):
    held = figures(TABLE)
    for place, (one, other) in enumerate(zip(held[:-1], here[:-1], strict=True)):
        for name in one.select_dtypes("number"):
            size = np.nanmax(np.abs(one[name]))  # deviances of terms are what large ones differ by
            a, b = one[name].to_numpy(), other[name].to_numpy()
            near = 1e-9 if (place, name) == (4, "p") else 1e-12
            assert a == pytest.approx(b, rel=near, abs=1e-12 * size, nan_ok=True)
    assert held[-1].equals(here[-1])


@pytest.mark.parametrize("cluster", [3], indirect=True)
def test_any_number_of_workers_gives_the_same_bits(cluster, here):
    same(figures(parts()), here)


def killed_after(cluster, seconds: float) -> threading.Thread:
    """Kill a whole worker process in a while."""

    def kill() -> None:
        time.sleep(seconds)
        worker = next(iter(cluster.workers.values()))
        os.kill(worker.process.pid, signal.SIGKILL)

    thread = threading.Thread(target=kill)
    thread.start()
    return thread


@pytest.mark.parametrize("seconds", [0.4])
def test_a_worker_that_dies_in_the_middle_changes_nothing(cluster, here, seconds):
    data = parts()
    killer = killed_after(cluster, seconds)
    found = figures(data)
    killer.join()
    same(found, here)


def test_a_worker_that_dies_between_iterations_changes_nothing(cluster, monkeypatch, here):
    from joinery.core.glm import iteration

    steps, real = [], iteration.next_step

    def step(*given):
        steps.append(1)
        if len(steps) == 2:
            worker = next(iter(cluster.workers.values()))
            os.kill(worker.process.pid, signal.SIGKILL)
        return real(*given)

    monkeypatch.setattr(iteration, "next_step", step)
    fit = jn.fit(parts(), SENTENCES[1])
    assert len(steps) >= 2
    pd.testing.assert_frame_equal(fit.coefficients().frame, here[3], check_exact=True)


def dying(frame: pd.DataFrame) -> pd.DataFrame:
    """A part whose worker is gone, as when the machine takes one that grew too large."""
    os._exit(9)


def unreadable(frame: pd.DataFrame) -> pd.DataFrame:
    raise OSError("the disk does not answer")


def broken(call) -> dask.DataFrame:
    """Parts of which the third cannot be had."""
    frames = [delayed(TABLE.iloc[a : a + 6000]) for a in range(0, N, 6000)]
    frames[2] = delayed(call)(frames[2])
    return dask.from_delayed(frames, meta=TABLE.iloc[:0])


@pytest.mark.skipif(not FULL, reason="workers take long to die and start again: make full")
def test_a_part_that_kills_its_workers_is_said():
    said = pytest.raises(jn.ClusterError, match="a worker died repeatedly")
    # a nanny may give up on workers that die often
    once = dask_config.set({"distributed.scheduler.allowed-failures": 1})
    with once, started(2) as own, Client(own), said:
        jn.fit(broken(dying), SENTENCES[0])


def hungry(frame: pd.DataFrame) -> pd.DataFrame:
    """A part that takes more and more memory, until its worker's limit ends it."""
    taken = []
    while len(taken) < 200:
        taken.append(np.ones(2**21))  # 16 MB
        time.sleep(0.01)
    raise AssertionError("nothing ended it")


@pytest.mark.skipif(not FULL, reason="a worker takes long to be ended: make full")
def test_a_worker_out_of_memory_is_said_and_the_cluster_goes_on(here):
    limits = {"distributed.scheduler.allowed-failures": 1, "distributed.worker.memory.pause": False}
    with dask_config.set(limits), started(1, memory_limit="600MiB") as own, Client(own):
        with pytest.raises(jn.ClusterError, match="for want of memory; cut the table into smaller"):
            jn.fit(broken(hungry), SENTENCES[0])
        fit = jn.fit(parts(), SENTENCES[0])
    pd.testing.assert_frame_equal(fit.coefficients().frame, here[0], check_exact=True)


@pytest.mark.parametrize("where", ["cluster", "here"])
def test_a_part_that_cannot_be_read_is_said(where, request):
    if where == "cluster":
        request.getfixturevalue("cluster")
    with pytest.raises(jn.ClusterError, match="OSError: the disk does not answer"):
        jn.fit(broken(unreadable), SENTENCES[0])


def test_a_scheduler_that_is_gone_is_said():
    with started(1) as own, Client(own):
        fit = jn.fit(parts(), SENTENCES[0])
        own.close()
        with pytest.raises(jn.ClusterError, match="the cluster's scheduler was lost"):
            fit.revise(drop="g")


def test_a_cluster_that_has_no_worker_is_said(monkeypatch):
    monkeypatch.setattr(cluster_source, "LOOK_SECONDS", 0.2)
    monkeypatch.setattr(cluster_source, "PATIENCE_SECONDS", 1.0)
    with started(0) as own, Client(own):
        with pytest.raises(jn.ClusterError, match="no worker for 1 seconds; start some"):
            jn.fit(parts(), SENTENCES[0])
        threading.Timer(1.0, own.scale, [1]).start()  # one that comes late is waited for
        monkeypatch.setattr(cluster_source, "PATIENCE_SECONDS", 60.0)
        assert jn.fit(parts(), SENTENCES[0]).n_rows == N - 100


def test_what_a_table_cannot_is_said_as_on_one_machine(cluster):
    data = dask.from_pandas(TABLE.assign(x=TABLE["x"] - 10), npartitions=3)
    with pytest.raises(jn.UnusableColumnError, match="log.x. does not exist everywhere"):
        jn.fit(data, "y given log(x)")
    with pytest.raises(jn.UnknownColumnError, match="did you mean 'yes'"):
        jn.fit(data, "y given yess")
    with pytest.raises(jn.DataError, match="rows of another part|one machine"):
        jn.fit(data, "y given lag(x, 1)")


def test_files_are_folded_on_the_workers_with_the_bits_of_one_machine(
    cluster, tmp_path, monkeypatch
):
    monkeypatch.setattr(any_table, "is_held", lambda source, apart=False: apart)
    TABLE.to_parquet(tmp_path / "t.parquet", row_group_size=5000)
    same(figures(tmp_path), figures(TABLE))


def test_rows_are_written_from_a_cluster(cluster, tmp_path):
    fit = jn.fit(parts(), SENTENCES[0])
    rows = jn.read(fit.write_rows(tmp_path / "rows.parquet"))
    held = jn.fit(TABLE, SENTENCES[0]).rows().frame
    assert rows["row"].tolist() == held.index.tolist()
    assert rows["studentized_residual"].to_numpy() == pytest.approx(
        held["studentized_residual"].to_numpy(), rel=1e-9, nan_ok=True
    )


def test_a_look_at_a_response_is_a_fold(cluster):
    sentence = SENTENCES[0]
    here, there = jn.look(TABLE, sentence), jn.look(parts(), sentence)
    assert there.columns["count"].tolist() == here.columns["count"].tolist()
    for name in ("correlations", "response", "predictor_pairs"):
        ours, known = (getattr(look, name).frame for look in (there, here))
        pd.testing.assert_frame_equal(ours, known, rtol=1e-9, atol=1e-12, check_dtype=False)
