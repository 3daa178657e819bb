"""Progress of long work, on standard error where that is a terminal."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

PATIENCE = 1.5  # seconds before anything is shown
APART = 0.1  # seconds between two looks of the line

Advance = Callable[[int], None]


@contextmanager
def counted(what: str, total: int | None = None) -> Iterator[Advance]:
    """Show how much of ``total`` is done, once the work takes longer than a moment.

    Of an unknown ``total`` only how much is done. Yields a function to be called with how many
    more are done. An interrupt carries a note of how far the work came.

    >>> with counted("rows", 10) as advance:
    ...     advance(10)
    """
    line = _Line(what, total)
    try:
        yield line.advance
    except KeyboardInterrupt as stop:
        stop.add_note(f"{line.so_far} were done")
        raise
    finally:
        line.clear()


class _Line:
    """The line that is written over and over; nothing where standard error is no terminal."""

    def __init__(self, what: str, total: int | None) -> None:
        self.what, self.total, self.done = what, total, 0
        self.started = self.written = time.monotonic()
        self.width = 0

    def advance(self, more: int) -> None:
        self.done += more
        now = time.monotonic()
        if now - self.started > PATIENCE and now - self.written > APART and _seen():
            words = self.so_far
            if self.total is not None:
                left = (now - self.started) * (self.total - self.done) / max(self.done, 1)
                words += f", about {_time(left)} left"
            sys.stderr.write(f"\r{words:<{self.width}}")
            sys.stderr.flush()
            self.width, self.written = len(words), now

    @property
    def so_far(self) -> str:
        """Return how much is done, in words."""
        if self.total is None:
            return f"{self.done:,} {self.what}"
        return f"{self.done:,} of {self.total:,} {self.what}"

    def clear(self) -> None:
        if self.width:
            sys.stderr.write(f"\r{'':<{self.width}}\r")
            sys.stderr.flush()


def _seen() -> bool:
    return sys.stderr is not None and sys.stderr.isatty()


def _time(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min"
