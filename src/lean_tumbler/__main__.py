"""`python -m lean_tumbler`: the same program as the command."""

from lean_tumbler.cli.main import main

main()
