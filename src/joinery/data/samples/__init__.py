"""The made-up tables of the beekeepers' cooperative, and the script that makes them."""
