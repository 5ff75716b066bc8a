"""``python -m nimbus_sweep`` is the command line."""

from .cli import main

main()
