"""``tachys new``: a commented starter model to fill in, or one begun from a capture."""

from __future__ import annotations

from pathlib import Path

import click

from tachys.cli.capturing import Given, shape_options


@click.command("new")
@click.argument("folder", type=click.Path(), metavar="DIR")
@click.option(
    "--from-capture",
    "capture",
    type=click.Path(),
    metavar="FILE",
    help="Begin with what the lines of a capture look like, every figure marked as seen.",
)
@click.option("--like", metavar="NAME", help="Write a small project that comes with the tool: tachys examples.")
@shape_options
def new_command(folder: str, capture: str | None, like: str | None, given: Given) -> int:
    """Write DIR/model.toml: a small model that works, and every other table as a comment.

    With --from-capture: timers, events, routines and steps as they are seen, with questions where nothing tells.
    """
    from tachys.cli.output import say
    from tachys.demo.project import write_example, write_starter

    if like is not None and capture is not None:
        raise click.UsageError("--like and --from-capture do not go together")
    if capture is not None:
        return _begin(Path(folder), capture, given)
    if given != Given():
        raise click.UsageError("--time-unit, --separator and --step go with --from-capture")
    if like is not None:
        model, seen = write_example(Path(folder), like)
        say(f"Wrote {model}, {seen} and the question in {model.parent / 'README.md'}.",
            f"Next: tachys check {model} {seen}")  # fmt: skip
        return 0
    model = write_starter(Path(folder))
    say(f"Wrote {model}. Fill it in, then: tachys bounds {model}")
    return 0


def _begin(folder: Path, capture: str, given: Given) -> int:
    import datetime

    from tachys.checking.correct.beginning import begin_model
    from tachys.cli.output import say
    from tachys.demo.project import write_starter
    from tachys.model.loading import read_model
    from tachys.words import count_text

    text = begin_model(given.read(capture), datetime.date.today().isoformat())
    model = write_starter(folder, text)
    system = read_model(text, str(model))
    asked = sum("?" in line.partition("#")[2] for line in text.splitlines())
    things = ((len(system.sources), "source"), (len(system.isrs), "routine"), (len(system.steps), "step"))
    say(f"Wrote {model}: {', '.join(count_text(many, what) for many, what in things if many)}, as they are seen; "
        f"{count_text(asked, 'question')} for you in it.",
        f"Next: give things their names and the core its clock, then tachys check {model} {capture}")  # fmt: skip
    return 0
