"""The `joinery` command: every group of commands, and what becomes of errors and warnings."""

from __future__ import annotations

import os
import sys
import warnings
from contextvars import copy_context
from copy import copy
from typing import Any

from typer import Typer
from typer.models import CommandInfo

from joinery.cli import check, forecast, mend, read, rehearse, start, understand  # noqa: F401
from joinery.cli.app import PANELS, app
from joinery.show.marks import fit_stream, tell
from joinery.support import advice, errors
from joinery.support.arguments import out_of_memory

# the help lists commands in the order of the work
app.registered_commands.sort(key=lambda command: PANELS.index(str(command.rich_help_panel)))


UNWRITABLE = 1  # the status when standard output takes nothing


def run() -> None:
    """Run the command line; Joinery's own errors become a message and an exit status."""
    copy_context().run(_run)  # what is settled for the shell ends with the command


def _run() -> None:
    os.environ["MPLBACKEND"] = "agg"  # pictures go into files, whatever shows them elsewhere
    if sys.stderr is None:  # closed before the start: results are written all the same
        sys.stderr = open(os.devnull, "w")  # noqa: SIM115
    if sys.stdout is None:
        tell("joinery: standard output is closed, so the results cannot be written")
        sys.exit(UNWRITABLE)
    for stream in (sys.stdout, sys.stderr):
        fit_stream(stream)
    warnings.showwarning = _as_note
    warnings.simplefilter("ignore", errors.EstimateWarning)  # the page and the tables say it
    warnings.simplefilter("ignore", errors.ReadingWarning)
    advice.speak_to_shell(advice.Typed())
    if len(sys.argv) < 2 or "--help" in sys.argv:
        _plain_help()
    try:
        try:
            _of_command(sys.argv[1:2])()
        finally:
            sys.stdout.flush()
    except errors.JoineryError as reason:
        tell(f"joinery: {reason}")
        sys.exit(reason.exit_status)
    except MemoryError as reason:
        tell(f"joinery: {out_of_memory(reason)}")
        sys.exit(errors.TooLargeError.exit_status)
    except BrokenPipeError:
        _forget_output()
        sys.exit(0)
    except OSError as reason:
        _forget_output()
        tell(f"joinery: the results cannot be written: {(reason.strerror or str(reason)).lower()}")
        sys.exit(UNWRITABLE)


def _of_command(typed: list[str]) -> Typer:
    """Return the application with the typed command alone: to make all takes a while."""
    chosen = [c for c in app.registered_commands if [_name(c)] == typed]
    if not chosen:
        return app
    alone = copy(app)
    alone.registered_commands = chosen
    return alone


def _name(command: CommandInfo) -> str:
    return command.name or (command.callback.__name__ if command.callback else "")


def _forget_output() -> None:
    """Let nothing more go to standard output, also when Python closes it at the end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _plain_help() -> None:
    """Leave the help in the terminal's own colours: yellow and cyan cannot be read on white."""
    from typer import rich_utils

    for name in vars(rich_utils):
        if name.startswith("STYLE_") and any(
            c in str(getattr(rich_utils, name)) for c in ("yellow", "cyan", "green")
        ):
            setattr(rich_utils, name, "bold")
    _plain_kinds()


KINDS = {"<str>": "text", "<list[str]>": "text", "<float>": "number", "<bool>": ""}
KINDS |= {"<int>": "whole number", "<int range>": "whole number"}


def _plain_kinds() -> None:
    """In the help, say what an option takes in words, and nothing beside a flag."""
    from typer import core

    for kind in (core.TyperOption, core.TyperArgument):
        # an inner name of the library: a version without it shows its own words for kinds
        if shown := getattr(kind, "display_type_rich", None):
            kind.display_type_rich = _in_words(shown)  # type: ignore[method-assign]


def _in_words(shown: Any) -> Any:
    def display(self: Any, ctx: Any) -> str:
        text = shown(self, ctx)
        return KINDS.get(str(text), str(text))

    return display


def _as_note(message: Warning | str, *_: Any, **__: Any) -> None:
    tell(f"note: {message}")
