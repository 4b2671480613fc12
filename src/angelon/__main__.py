"""`python -m angelon`."""

from angelon.cli.main import main

main()
