"""The command line: reads arguments, calls the library, shows Tables."""


def main() -> None:
    """The `joinery` command."""
    from joinery.cli.commands import run

    run()
