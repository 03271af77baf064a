"""Where the command begins: an interrupt while the program is still being loaded ends it like any other."""

from __future__ import annotations

import gc
import sys


def main() -> None:
    """Load the program and run the command."""
    try:
        gc.disable()  # what is loaded stays: to look through it for what does not takes longer than most commands
        from tachys.cli.main import main as command

        gc.enable()
        gc.freeze()
        command()
    except KeyboardInterrupt:
        sys.exit(130)
