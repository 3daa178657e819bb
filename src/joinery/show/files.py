"""Writing files beside the old one, then renaming, so that a crash leaves the old one.

A link is written through, the mode of the old file is kept, and what is neither a regular file nor
standard output is refused."""

from __future__ import annotations

import os
import stat
import sys
import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path

from joinery.support.errors import CallError
from joinery.support.urls import is_url

STANDARD_OUTPUT = ("-", "/dev/stdout")


def write_whole(path: str | os.PathLike[str], write: Callable[[Path], object]) -> Path:
    """Let ``write`` fill a temporary file, then put it in place of ``path`` at once.

    Raises CallError, with what to do, where nothing can be written.
    """
    try:
        given = Path(os.fsdecode(path))
        if str(given) in STANDARD_OUTPUT:
            _to_standard_output(write)
            return given
        _in_place(given, write)
    except CallError:
        raise
    except (TypeError, ValueError) as reason:
        raise CallError(f"{path!r} is not a path to write to: {reason}", argument="path") from None
    except OSError as reason:
        words = (reason.strerror or str(reason)).lower()
        raise CallError(f"cannot write {str(path)!r}: {words}", argument="path") from None
    return given


def refuse_input(output: object, inputs: Iterable[object]) -> None:
    """Raise CallError, before anything is written, for an output that is read by the same call."""
    target = _file(output)
    for given in inputs:
        source = _file(given)
        if target is None or source is None or not (target.exists() and source.exists()):
            continue
        if target.samefile(source):
            raise CallError(
                f"{str(target)!r} is what is read here, and would be lost; write to another file",
                argument="path",
            )


def _file(given: object) -> Path | None:
    """Return what is given as a path, or None where it is none."""
    if not isinstance(given, (str, os.PathLike)) or is_url(given):
        return None
    text = os.fsdecode(given)
    if text in STANDARD_OUTPUT or "\x00" in text or len(text) > 4096:
        return None
    return Path(text)


def _in_place(given: Path, write: Callable[[Path], object]) -> None:
    target = Path(os.path.realpath(given))
    if not target.parent.is_dir():
        if given.is_symlink():
            link = f" (a link to {str(target)!r})"
        else:
            link = ""
        raise CallError(
            f"cannot write {str(given)!r}{link}: there is no folder {str(target.parent)!r}",
            argument="path",
        )
    mode = None
    if target.exists():
        status = target.stat()
        if not stat.S_ISREG(status.st_mode):
            if target.is_dir():
                kind = "a folder"
            else:
                kind = "no regular file"
            raise CallError(
                f"cannot write {str(given)!r}: it is {kind}; give the name of a file",
                argument="path",
            )
        mode = stat.S_IMODE(status.st_mode)
        if not os.access(target, os.W_OK):
            raise CallError(f"cannot write {str(given)!r}: it is read-only", argument="path")
    handle, name = tempfile.mkstemp(dir=target.parent, prefix=".joinery-", suffix=target.suffix)
    os.close(handle)
    beside = Path(name)
    try:
        write(beside)
        if mode is None:
            mask = os.umask(0)
            os.umask(mask)
            mode = 0o666 & ~mask
        beside.chmod(mode)
        beside.replace(target)
    finally:
        beside.unlink(missing_ok=True)


def _to_standard_output(write: Callable[[Path], object]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        beside = Path(folder) / "output"
        write(beside)
        sys.stdout.flush()
        sys.stdout.buffer.write(beside.read_bytes())
        sys.stdout.flush()


def write_text(path: str | os.PathLike[str], text: str) -> Path:
    """Return a whole text file, UTF-8."""
    return write_whole(path, lambda beside: beside.write_text(text, encoding="utf-8"))


def suffix_of(path: str | os.PathLike[str]) -> str:
    """Return the ending of a path to write to, in small letters. Raises CallError for what is no
    path."""
    try:
        return Path(os.fsdecode(path)).suffix.lower()
    except TypeError:
        raise CallError(f"{path!r} is not a path to write to", argument="path") from None
