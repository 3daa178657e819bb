"""`python -m joinery`: the command line."""

from joinery.cli import main

main()
