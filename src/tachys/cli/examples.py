"""``tachys examples``: what small projects come with the tool."""

from __future__ import annotations

import click


@click.command("examples")
def examples_command() -> int:
    """List the small projects that come with the tool: each a question, a model, a capture and the answer.

    tachys new DIR --like NAME writes one of them.
    """
    from tachys.cli.output import say, table
    from tachys.demo.project import examples

    found = examples()
    table([("name", ""), ("the question", "")], [[each.name, each.question] for each in found])
    say(f"Write one of them: tachys new DIR --like {found[0].name}. The larger example: tachys demo")
    return 0
