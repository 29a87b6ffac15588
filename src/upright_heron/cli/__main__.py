"""``python -m upright_heron.cli``: the shell command."""

from . import main

main()
