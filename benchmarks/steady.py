"""Memory of frames: peaks as rows grow, and what many fits in one process leave behind.

``python -m benchmarks.steady`` prints both as Markdown; ``python -m benchmarks.steady 100000 1000000``
takes those numbers of rows, ``often`` the second table alone."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator

from benchmarks.measure import peak_growth

ROWS = (100_000, 1_000_000, 10_000_000)
SETUP = """
import numpy as np, pandas as pd, joinery as jn, joinery.model.result, tempfile, pathlib
from joinery.hand_over import short_page
rng = np.random.default_rng(1)
table = pd.DataFrame({{f"x{{j}}": rng.normal(size={rows}) for j in range(10)}})
table["g"] = pd.Categorical.from_codes(rng.integers(0, 20, {rows}), [f"g{{i}}" for i in range(20)])
table["y"] = table["x0"] + rng.normal(size={rows})
table["yes"] = table["y"] > 0
out = pathlib.Path(tempfile.mkdtemp()) / "page.html"
jn.fit(table.head(1000), "y given all").report(out)"""
WORKS = {
    "fit": 'jn.fit(table, "y given all")',
    "page": 'str(jn.fit(table, "y given all"))',
    "anova": 'jn.fit(table, "y given all").anova()',
    "report": 'jn.fit(table, "y given all").report(out)',
}
MANY = {
    "fits and pages": (1000, 'str(jn.fit(table[i : i + 200], "y given x0, x1, g"))'),
    "logistic fits": (1000, 'jn.fit(table[i : i + 200], "yes given x0")'),
    "pictures": (300, 'fit.draw("checks").savefig(out.with_suffix(".png"))'),
    "reports": (100, "fit.report(out)"),
    "saved and loaded": (1000, 'jn.load(fit.save(out.with_suffix(".json"))).forecast(table.head(3))'),
}  # fmt: skip


def peaks(rows: tuple[int, ...]) -> Iterator[str]:
    """Yield the growth of peak memory beyond the frame, a line a number of rows."""
    yield f"| rows | the frame | {' | '.join(WORKS)} |"
    yield f"| ---: |{' ---: |' * (1 + len(WORKS))}"
    for count in rows:
        setup = SETUP.format(rows=count)
        cells = [f"{peak_growth(setup, work):.0f} MB" for work in WORKS.values()]
        frame = count * (11 * 8 + 1) / 2**20
        yield f"| {count:,} | {frame:.0f} MB | {' | '.join(cells)} |"


def often() -> Iterator[str]:
    """Yield what a process holds after a tenth, a half and all of many works."""
    yield "| work | times | held after a tenth | after half | after all |"
    yield "| --- | ---: | ---: | ---: | ---: |"
    for name, (times, work) in MANY.items():
        code = f"""{SETUP.format(rows=1200)}
import re, gc, warnings
warnings.simplefilter("ignore")
fit = jn.fit(table.head(200), "y given x0, x1, g")
for i in range({times}):
    {work}
    if i + 1 in ({times} // 10, {times} // 2, {times}):
        gc.collect()
        print(int(re.search(r"VmRSS:\\s+(\\d+)", open("/proc/self/status").read())[1]) // 1024)"""
        done = subprocess.run(
            [sys.executable, "-c", code], check=True, capture_output=True, text=True
        )
        yield f"| {name} | {times:,} | {' | '.join(f'{mb} MB' for mb in done.stdout.split())} |"


def main() -> None:
    """Print the tables that are asked for."""
    rows = tuple(int(w) for w in sys.argv[1:] if w.isdigit()) or ROWS
    parts = [often()] if "often" in sys.argv else [peaks(rows), often()]
    for part in parts:
        print(*part, sep="\n", end="\n\n", flush=True)


if __name__ == "__main__":
    main()
