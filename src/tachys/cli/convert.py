"""``tachys convert``: one capture format into another."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from tachys.cli.capturing import Given, shape_options, whole_option
from tachys.words import count_text, time_text

if TYPE_CHECKING:
    from tachys.capture.table import Capture


@click.command("convert")
@click.argument("capture", type=click.Path(allow_dash=True))
@click.argument("output", type=click.Path())
@click.option(
    "--marks",
    "model",
    type=click.Path(),
    metavar="MODEL",
    help="CAPTURE is what the firmware marked with the header of MODEL: its stream, or a dump of its memory. "
    "Of trace packets: what their exceptions are called.",
)
@click.option("--without", multiple=True, metavar="NAME", help="As that header was made.")
@shape_options
@whole_option
def convert_command(
    capture: str, output: str, model: str | None, without: tuple[str, ...], given: Given, strict: bool
) -> int:
    """Write CAPTURE as OUTPUT: .vcd, .csv, .parquet or .events, with .gz behind it packed.

    A dump of memory may be binary, S-records or hex records.
    """
    from tachys.capture.writing import form_of, write_capture
    from tachys.cli.output import say
    from tachys.files import written_whole

    form_of(output)
    if model is not None and given.how.packets is None:
        read = _marked(capture, model, without)
    else:
        read = given.read(capture, strict=strict)
        read = read if model is None else _named(read, model)
    with written_whole(output) as stream:
        write_capture(read, output, stream)
    changes = sum(len(signal.at) for signal in read.signals.values())
    signals = count_text(len(read.signals), "signal")
    say(f"{output}: {signals}, {count_text(changes, 'change')}, {time_text(read.length)}", *read.remarks)
    return 0


def _named(capture: Capture, model: str) -> Capture:
    """The capture with its exceptions called as the model calls its routines."""
    from tachys.checking.probes.binding import called_as
    from tachys.model.loading import load_model

    return called_as(load_model(model), capture)[1]


def _marked(capture: str, model: str, without: tuple[str, ...]) -> Capture:
    import sys

    from tachys.capture.eventstream import read_event_lines
    from tachys.capture.opening import pieces
    from tachys.marks.codes import marks_of
    from tachys.marks.memory import marked_lines
    from tachys.model.loading import load_model

    stream = sys.stdin.buffer if capture == "-" else None
    lines = marked_lines(pieces(capture, stream), marks_of(load_model(model), without), capture)
    return read_event_lines(lines, capture)
