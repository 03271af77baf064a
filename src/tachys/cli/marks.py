"""``tachys marks``: the C header with which the firmware tells itself what it does."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.cli.modelling import Changes, model_options

if TYPE_CHECKING:
    from fractions import Fraction

    from tachys.marks.rates import Marking


@click.command("marks")
@click.argument("model", type=click.Path())
@click.option("-o", "--output", "folder", type=click.Path(path_type=Path), required=True, metavar="DIR",
              help="Where tachys_marks.h is written.")  # fmt: skip
@click.option("--without", multiple=True, metavar="NAME", help="A routine, step or event that gets no mark.")
@click.option("--baud", type=click.IntRange(min=1), help="The rate of the line: an error if it is too slow.")
@model_options
def marks_command(model: str, folder: Path, without: tuple[str, ...], baud: int | None, changes: Changes) -> int:
    """Write a C99 header that marks what MODEL names, and tell what rate its stream needs.

    Each mark is a word in a ring in memory, which the firmware sends over a serial line (tachys record), or which is
    dumped after a fault (tachys convert).
    """
    from tachys.cli.output import say
    from tachys.errors import input_error
    from tachys.files import write_whole
    from tachys.marks.codes import marks_of
    from tachys.marks.header import NAME, header
    from tachys.marks.rates import baud_needed, bytes_a_second, markings, to_leave_out
    from tachys.worstcase.analysis import bounds

    system = changes.load(model)
    marks = marks_of(system, without)
    rates, hertz = markings(bounds(system), marks), int(system.core.clock.hertz)
    most = bytes_a_second(rates, hertz)
    if baud is not None and (most is None or baud_needed(most) > baud):
        gone = to_leave_out(rates, hertz, baud)
        needed = "no rate is sure to be enough" if most is None else f"they need {baud_needed(most)} at worst"
        mend = "send faster, or keep the last marks in memory (TACHYS_KEEP_LAST)"
        mend = "leave some out: " + " ".join(f"--without {name}" for name in gone) if gone else mend
        raise input_error("--baud", f"{baud} baud carry not all marks of {model}: {needed}", mend)
    path = folder / NAME
    write_whole(path, header(system, marks, hertz, model))
    _show_rates(rates, most)
    say("", f"written: {path}. Define TACHYS_ON and, in one file, TACHYS_HERE; what else is due stands at its top.")
    return 0


def _show_rates(rates: list[Marking], most: Fraction | None) -> None:
    from tachys.cli.output import say, table
    from tachys.marks.rates import baud_needed

    rows = [
        [each.mark.name, each.mark.macro, "no limit" if each.rate is None else f"{float(each.rate):.0f}"]
        for each in rates
    ]
    table([("name", ""), ("in C", ""), ("a second, at most", "right")], rows)
    if most is None:
        endless = ", ".join(each.mark.name for each in rates if each.rate is None)
        say(f"Nothing limits how often {endless} runs: what finds no room in the ring is dropped, and counted.")
    else:
        say(f"At most {float(most):.0f} bytes a second in all: a line of {baud_needed(most)} baud or more.")
