"""The command line: reads arguments, calls the library, shows Tables."""

import sys

INTERRUPTED = 130  # as shells say it


def main() -> None:
    """The `joinery` command."""
    try:
        from joinery.cli.commands import run

        run()
    except KeyboardInterrupt as stop:
        _say_how_far(stop)
        sys.exit(INTERRUPTED)
    except SystemExit as end:
        if end.code == INTERRUPTED:  # the parser of arguments ends an interrupt by itself
            _say_how_far(getattr(end.__context__, "__cause__", None))
        raise


def _say_how_far(stop: BaseException | None) -> None:
    how_far = getattr(stop, "__notes__", ())
    sys.stderr.write(f"joinery: {'; '.join(('interrupted', *how_far))}\n")
