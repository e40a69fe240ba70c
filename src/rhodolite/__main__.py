"""`python -m rhodolite` is the command `rhodolite`."""

from rhodolite.cli.main import run

run()
