"""``tachys demo``: the whole job on the example project."""

from __future__ import annotations

import sys
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.cli.parameters import TIME
from tachys.demo.speaking import FAULTS

if TYPE_CHECKING:
    from tachys.checking.result import CheckResult

PICTURE = "worst.png"


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path), default=Path("row-unit"), metavar="[DIR]")
@click.option(
    "--board", is_flag=True, help="Stand in for the board: speak its marks on a pseudo-terminal, till Ctrl-C."
)
@click.option("--fault", type=click.Choice(FAULTS), help="What is wrong with that board.")
@click.option("--for", "length", type=TIME, help="Speak for so long.")
def demo_command(folder: Path, board: bool, fault: str | None, length: Fraction | None) -> int:
    """Write the example project into DIR (default row-unit) and run the whole job on it.

    The example is the row unit of a seed drill: a model, a capture with a fault in it, and one after the mend.
    """
    if board:
        return _speak(folder, fault, length)
    if fault is not None or length is not None:
        raise click.UsageError("--fault and --for go with --board")
    from tachys.capture.reading import read_capture
    from tachys.checking.checking import check
    from tachys.cli.bounds import show_bounds
    from tachys.cli.check import show_check
    from tachys.cli.output import say
    from tachys.demo.project import write_project
    from tachys.drawing.figure import draw_scenes
    from tachys.drawing.scene import scene_of_capture, worst_moment
    from tachys.files import write_whole
    from tachys.model.loading import load_model
    from tachys.worstcase.analysis import bounds

    model, faulty, mended = write_project(folder)
    say(f"1. The model, two captures from the board: {model}, {faulty}, {mended}", "")
    _step(2, f"The worst cases on paper: tachys bounds {model}")
    system = load_model(model)
    paper = bounds(system)
    show_bounds(paper, str(model))
    _step(3, f"The board before the mend: tachys check {model} {faulty}")
    broken = check(system, read_capture(faulty), paper)
    show_check(broken, str(model))
    picture = folder / PICTURE
    write_whole(picture, draw_scenes([scene_of_capture(broken, worst_moment(broken))], "png"))
    say(f"  drawn: {picture}", "")
    _step(4, f"The board after it: tachys check {model} {mended}")
    sound = check(system, read_capture(mended), paper)
    show_check(sound, str(model))
    _step(5, "What was found")
    say(*_conclusion(broken, "before the mend"), *_conclusion(sound, "after the mend"), "")
    say(f"More: open {picture}, change {model} and run tachys bounds and tachys check again; tachys --help.")
    return 0


def _speak(folder: Path, fault: str | None, length: Fraction | None) -> int:
    """The board of the example on a pseudo-terminal, as if it were plugged in."""
    import os
    from contextlib import suppress

    from tachys.cli.output import say
    from tachys.demo.project import write_project
    from tachys.demo.speaking import open_line, speak
    from tachys.errors import input_error
    from tachys.marks.codes import marks_of
    from tachys.model.loading import load_model

    if not hasattr(os, "openpty"):
        raise input_error("--board", "this system has no pseudo-terminals", "record from a file: tachys record --help")
    model = write_project(folder)[0]
    handle, name = open_line()
    say(f"The board speaks on {name}. In another terminal:", f"  tachys record {model} {name} -o run.events --live")
    say("Ctrl-C ends it.")
    sys.stdout.flush()
    with suppress(KeyboardInterrupt):
        speak(handle, marks_of(load_model(model)), fault, None if length is None else float(length))
    return 0


def _step(number: int, text: str) -> None:
    from tachys.cli.output import heading, say

    say("")
    heading(f"{number}. {text}")
    say("")


def _conclusion(result: CheckResult, when: str) -> list[str]:
    """What a check found, need by need, in plain words."""
    from tachys.checking.out.telling import finding_text, miss_lines
    from tachys.needs.verdicts import Verdict
    from tachys.needs.words import value_text

    missed = [need for need in result.needs.values() if need.verdict is Verdict.MISSED]
    if not missed:
        worst = [
            f"{name} {value_text(need.need, need.value)} of {value_text(need.need, need.limit)}"
            for name, need in result.needs.items()
            if need.value is not None
        ]
        return [f"Board {when}: no need is missed. Worst seen: {', '.join(worst)}."]
    lines = [f"Board {when}: {len(missed)} of {len(result.needs)} needs are missed."]
    for need in missed:
        worst_seen = "" if need.value is None else f", at worst {value_text(need.need, need.value)}"
        lines.append(f"  {need.need.name}: {need.count} late or lost, limit "
                     f"{value_text(need.need, need.limit)}{worst_seen}.")  # fmt: skip
        lines += [f"    {line}." for line in miss_lines(result, need)[:2]]
    if result.findings:
        lines.append(f"  What is wrong: {finding_text(result.findings[0])}.")
    return lines
