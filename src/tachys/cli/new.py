"""``tachys new``: a commented starter model to fill in."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("new")
@click.argument("folder", type=click.Path(), metavar="DIR")
def new_command(folder: str) -> int:
    """Write DIR/model.toml: a small model that works, and every other table as a comment."""
    from tachys.cli.output import say
    from tachys.demo.project import write_starter

    model = write_starter(Path(folder))
    say(f"Wrote {model}. Fill it in, then: tachys bounds {model}")
    return 0
