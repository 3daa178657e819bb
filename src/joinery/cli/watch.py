"""Running a command again whenever its data file changes, and saying what changed in the fit."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING

from joinery.show.marks import tell
from joinery.support import errors

if TYPE_CHECKING:
    from joinery.model.result import Fit

QUIET_FOR = 0.3  # seconds that a file must stay as it is before it is read
QUIET_TRIES = 20  # how often that is waited for

# the fit that the command worked on last
last_fit: ContextVar[Fit | None] = ContextVar("last_fit", default=None)


def watched(run: Callable[[], None], data: str) -> None:
    """Run now, and again after every change of the data file, until interrupted.

    Raises CallError where the data is no file, or no watcher is installed.
    """
    path = Path(data)
    if data == "-" or data.startswith("sample:") or not path.is_file():
        raise errors.CallError(f"--watch follows a file, and {data!r} is not one", argument="watch")
    changes = _changes(path)
    before = _once(run, None)
    tell(f"watching {data}; Ctrl-C ends it")
    for _ in changes:
        if sys.stdout.isatty():
            sys.stdout.write("\x1b[2J\x1b[H")  # a clear screen for the new result
        tell(f"{time.strftime('%H:%M:%S')} {data} changed")
        before = _once(run, before)


def _once(run: Callable[[], None], before: Fit | None) -> Fit | None:
    """Run, and say what changed since the fit before; what cannot be read or used is said too."""
    last_fit.set(None)
    try:
        run()
    except errors.JoineryError as reason:
        tell(f"joinery: {reason}")
        return before
    sys.stdout.flush()
    now = last_fit.get()
    if before is not None and now is not None:
        for line in differences(before, now):
            tell(line)
    return now or before


def differences(before: Fit, now: Fit) -> Iterator[str]:
    """Yield what moved between two fits: rows, coefficients, warnings come and gone."""
    from joinery.show.numbers import figure

    if before.n_rows != now.n_rows:
        yield f"rows: {before.n_rows:,} before, {now.n_rows:,} now"
    tables = (before.coefficients(), now.coefficients())
    old, new = (dict(zip(t["term"], map(figure, t["estimate"]))) for t in tables)
    for name, value in new.items():
        if name not in old:
            yield f"{name}: new"
        elif old[name] != value:
            yield f"{name}: {old[name]} before, {value} now"
    yield from (f"{name}: gone" for name in old if name not in new)
    was, is_ = _warnings(before), _warnings(now)
    yield from (f"no longer: {words}" for words in was if words not in is_)
    yield from (f"new {verdict}: {words}" for words, verdict in is_.items() if words not in was)
    if (before.n_rows, old, was) == (now.n_rows, new, is_):
        yield "nothing in the fit changed"


def _warnings(fit: Fit) -> dict[str, str]:
    """Return what the fit's page warns of, and how gravely."""
    from joinery.hand_over.short_page import short_page
    from joinery.study.verdicts import GRAVE

    return {c.words: c.verdict for c in short_page(fit._fitted).cautions if c.verdict in GRAVE}


def _changes(path: Path) -> Iterator[None]:
    """Yield changes of a file from now on, each once the file is whole again.

    Its folder is watched, as editors often write beside a file and rename."""
    try:
        from watchfiles import watch
    except ImportError:
        raise errors.CallError(
            "--watch needs watchfiles; install the checkout with [watch]", argument="watch"
        ) from None

    def follow() -> Iterator[None]:
        seen = before
        for _ in watch(
            path.resolve().parent,
            watch_filter=lambda _, changed: os.path.basename(changed) == path.name,
            recursive=False,
            debounce=200,
            step=50,
            yield_on_timeout=True,  # what happened before the watch began is found so
            rust_timeout=1000,
            raise_interrupt=True,
        ):
            now = _state(path)
            if now == seen:
                continue
            now = _settled(path)
            if now is not None and now != seen:
                seen = now
                yield

    before = _state(path)
    return follow()


def _state(path: Path) -> tuple[int, int, int] | None:
    """Return what tells that a file is another; None while it is away."""
    try:
        result = path.stat()
    except OSError:
        return None
    return result.st_mtime_ns, result.st_size, result.st_ino


def _settled(path: Path) -> tuple[int, int, int] | None:
    """Return the state of a file once it stays as it is for a moment; None while it is away."""
    before = _state(path)
    for _ in range(QUIET_TRIES):
        time.sleep(QUIET_FOR)
        now = _state(path)
        if now == before:
            return now
        before = now
    return before
