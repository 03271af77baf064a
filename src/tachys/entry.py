"""Where the command begins: an interrupt while the program is still being loaded ends it like any other."""

from __future__ import annotations

import sys


def main() -> None:
    """Load the program and run the command."""
    try:
        from tachys.cli.main import main as command

        command()
    except KeyboardInterrupt:
        sys.exit(130)
