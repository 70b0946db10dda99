"""`python -m chronarch`."""

from chronarch.cli.app import root

root()
