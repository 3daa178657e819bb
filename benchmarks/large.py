"""Tables that stay in files and on a cluster: time against reading them, and peak memory.

`python -m benchmarks.large` takes minutes and gigabytes of disk; `python -m benchmarks.large 2 10`
takes two and ten million rows in place of 2, 10 and 20. `memory`, `reading` and `cluster` choose
among the parts."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as parquet

import joinery as jn
from benchmarks.measure import Row, in_turn

NUMBERS = [f"x{i}" for i in range(7)]
PLAIN = f"y given {', '.join(NUMBERS)}"
SENTENCE = f"{PLAIN}, site"
WORK = {
    "read by pyarrow": "import pyarrow.parquet as p; t = p.read_table(path, columns={columns})",
    "fit": "jn.fit(path, {sentence!r})",
    "page with its checks": "str(jn.fit(path, {sentence!r}))",
    "look": "str(jn.look(path))",
    "look at a response": "str(jn.look(path, {sentence!r}))",
    "logistic fit": "jn.fit(path, 'yes given x0, x1, x2, site')",
    "report": "jn.fit(path, {sentence!r}).report(out + '.html')",
    "crosscheck": "jn.fit(path, {sentence!r}).crosscheck()",
    "write_rows": "jn.fit(path, {sentence!r}).write_rows(out)",
    "write_forecasts": "jn.fit(small, {sentence!r}).write_forecasts(path, out)",
}


def table(rows: int, seed: int) -> pa.Table:
    """So many rows of 8 numbers, a category of 50 levels, and yes or no."""
    rng = np.random.default_rng(seed)
    X, site = rng.standard_normal((rows, 7)), rng.integers(0, 50, rows)
    y = X @ np.arange(1, 8) / 4 + site * 0.02 + rng.standard_normal(rows)
    yes = rng.random(rows) < 1 / (1 + np.exp(-X[:, 0]))
    names = np.array([f"site {i:02}" for i in range(50)])[site]
    return pa.table(
        {n: X[:, i] for i, n in enumerate(NUMBERS)} | {"y": y, "yes": yes, "site": names}
    )


def written(path: Path, millions: int) -> Path:
    """A file of so many million rows."""
    if not path.exists():
        with parquet.ParquetWriter(path, table(1, 0).schema) as writer:
            for seed in range(2 * millions):
                writer.write_table(table(500_000, seed))
    return path


def memory(folder: Path, millions: list[int]) -> Iterator[str]:
    """Peak memory beyond the libraries' own, and seconds, each in a process of its own."""
    yield "| rows | " + " | ".join(WORK) + " |"
    yield "| ---: |" + " ---: |" * len(WORK)
    small = written(folder / "1.parquet", 1)
    for count in millions:
        path = written(folder / f"{count}.parquet", count)
        cells = []
        for work in WORK.values():
            call = work.format(sentence=SENTENCE, columns=["y", *NUMBERS])
            code = f"""
import re, time, joinery as jn, joinery.model.result, scipy.linalg, pyarrow.dataset
path, small, out = {str(path)!r}, {str(small)!r}, {str(folder / "out.parquet")!r}
peak = lambda: int(re.search(r"VmHWM:\\s+(\\d+)", open("/proc/self/status").read())[1]) / 1024
before, began = peak(), time.perf_counter()
{call}
print(f"{{peak() - before:.0f}} MB, {{time.perf_counter() - began:.1f}} s")"""
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
            cells.append(done.stdout.strip() or done.stderr.strip().splitlines()[-1])
        yield f"| {count:,},000,000 | " + " | ".join(cells) + " |"


def reading(folder: Path, millions: list[int]) -> Iterator[str]:
    """A fit of the numbers against reading them once."""
    path = written(folder / f"{millions[-1]}.parquet", millions[-1])
    ours, theirs = in_turn(
        lambda: jn.fit(str(path), PLAIN),
        lambda: parquet.read_table(path, columns=["y", *NUMBERS]),
        3,
    )
    work = f"Parquet of {millions[-1]:,},000,000 rows × 8 numbers"
    yield str(Row(work, ours, "read once by pyarrow", theirs, "at most 5", ours <= 5 * theirs))


def cluster(folder: Path, millions: list[int]) -> Iterator[str]:
    """Two worker processes of one thread against one, the parts in their memory."""
    import dask.dataframe as dask
    from distributed import Client, LocalCluster, wait

    os.environ["OMP_NUM_THREADS"] = "1"
    parts = folder / "parts"
    parts.mkdir(exist_ok=True)
    for seed in range(2 * millions[-1]):
        numbers = table(500_000, seed).select(["y", *NUMBERS])
        parquet.write_table(numbers, parts / f"{seed:02}.parquet")
    spent, found = {}, {}
    for workers in (1, 2):
        with (
            LocalCluster(
                n_workers=workers, threads_per_worker=1, dashboard_address=None, memory_limit=None
            ) as made,
            Client(made),
        ):
            data = dask.read_parquet(str(parts)).persist()
            wait(data)
            jn.fit(data, PLAIN)
            times = []
            for _ in range(3):
                began = time.perf_counter()
                fit = jn.fit(data, PLAIN)
                times.append(time.perf_counter() - began)
            spent[workers], found[workers] = sorted(times)[1], fit.coefficients().frame
    same = "the same bits" if found[1].equals(found[2]) else "OTHER BITS"
    work = f"{millions[-1]:,},000,000 rows × 8 numbers, two workers, {same}"
    met = spent[2] <= spent[1] / 1.6 and found[1].equals(found[2])
    yield str(Row(work, spent[2], "one worker", spent[1], "at most 0.625", met))


PARTS = {"reading": reading, "memory": memory, "cluster": cluster}


def main() -> None:
    wanted = [w for w in sys.argv[1:] if w in PARTS] or list(PARTS)
    millions = [int(w) for w in sys.argv[1:] if w.isdigit()] or [2, 10, 20]
    with tempfile.TemporaryDirectory() as folder:
        for name in wanted:
            for line in PARTS[name](Path(folder), millions):
                print(line, flush=True)


if __name__ == "__main__":
    main()
