"""Timing two things in turn, so that a machine whose speed drifts does not favour either."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Row:
    """One comparison: our figure, the yardstick, their ratio, and what it must be."""

    work: str
    ours: float
    yardstick: str
    theirs: float
    target: str
    met: bool
    unit: str = "s"

    def __str__(self) -> str:
        ratio = self.ours / self.theirs if self.theirs else float("inf")
        verdict = "met" if self.met else "NOT MET"
        shown = " ".join(f"{v:.4g} {self.unit}".rjust(12) for v in (self.ours, self.theirs))
        return f"{self.work:<50} {shown}  ratio {ratio:7.3f}  {self.target:<13} {verdict}   ({self.yardstick})"


def in_turn(
    ours: Callable[[], object], theirs: Callable[[], object], times: int = 5
) -> tuple[float, float]:
    """The median time of each, in seconds, run alternately after one run of each that does not count."""
    ours(), theirs()
    spent: tuple[list[float], list[float]] = ([], [])
    for _ in range(times):
        for work, seconds in zip((ours, theirs), spent, strict=True):
            began = time.perf_counter()
            work()
            seconds.append(time.perf_counter() - began)
    return statistics.median(spent[0]), statistics.median(spent[1])


def often(work: Callable[[], object], times: int) -> Callable[[], object]:
    """The same work so many times over."""

    def repeated() -> None:
        for _ in range(times):
            work()

    return repeated


def fresh(code: str) -> Callable[[], object]:
    """Python code run in a process of its own, which finds modules compiled as a user's would."""
    own = os.environ | {"PYTHONDONTWRITEBYTECODE": ""}
    return lambda: subprocess.run(
        [sys.executable, "-c", code], check=True, capture_output=True, env=own
    )


def peak_growth(setup: str, work: str) -> float:
    """By how many MB a process's peak memory rises above what it holds after ``setup`` (Linux)."""
    code = f"""{setup}
import re
def held(what):
    return int(re.search(what + r":\\s+(\\d+)", open("/proc/self/status").read())[1])
open("/proc/self/clear_refs", "w").write("5")
before = held("VmRSS")
{work}
print(held("VmHWM") - before)"""
    out = subprocess.run(
        [sys.executable, "-c", code], check=True, capture_output=True, text=True
    ).stdout
    return int(out) / 1024
