"""``python -m anaxis``: the command line."""

from anaxis.cli import main

main()
