"""Where the command begins: an interrupt while the program is still being loaded ends it like any other."""

from __future__ import annotations

import gc
import sys


def main() -> None:
    """Load the program and run the command."""
    try:
        gc.disable()  # until the command is loaded: what is, stays, and to look through it takes longer than most do
        from tachys.cli.main import main as command

        command()
    except KeyboardInterrupt:
        sys.exit(130)
