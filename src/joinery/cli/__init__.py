"""The command line: reads arguments, calls the library, shows Tables."""

import sys

INTERRUPTED = 130  # as shells say it


def main() -> None:
    """The `joinery` command."""
    try:
        from joinery.cli.commands import run

        run()
    except KeyboardInterrupt:
        sys.stderr.write("joinery: interrupted\n")
        sys.exit(INTERRUPTED)
