"""`python -m welvo.cli` is the `welvo` command."""

from welvo.cli import main

main()
