"""The command line: reads arguments, calls the library, shows Tables."""

import atexit
import gc
import sys

INTERRUPTED = 130  # as shells say it
# A command loads a thousand modules and ends. Looking through them all for circles of objects, time
# and again and once more at the end, was a quarter of a small one; what runs for long is still
# looked through, once in so many new objects.
SELDOM = 1_000_000


def main() -> None:
    """The `joinery` command."""
    usual = gc.get_threshold()
    gc.set_threshold(SELDOM)
    atexit.register(gc.freeze)
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
    finally:
        gc.set_threshold(*usual)


def _say_how_far(stop: BaseException | None) -> None:
    how_far = getattr(stop, "__notes__", ())
    sys.stderr.write(f"joinery: {'; '.join(('interrupted', *how_far))}\n")
