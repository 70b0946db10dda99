"""`python -m chronarch`."""

from chronarch.command import main

main()
