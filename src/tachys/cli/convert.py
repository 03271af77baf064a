"""``tachys convert``: one capture format into another."""

from __future__ import annotations

import click

from tachys.cli.capturing import Given, shape_options, whole_option
from tachys.words import count_text, time_text


@click.command("convert")
@click.argument("capture", type=click.Path(allow_dash=True))
@click.argument("output", type=click.Path())
@shape_options
@whole_option
def convert_command(capture: str, output: str, given: Given, strict: bool) -> int:
    """Write CAPTURE as OUTPUT: .vcd, .csv, .parquet or .events, with .gz behind it packed."""
    from tachys.capture.writing import capture_bytes, form_of
    from tachys.cli.output import say
    from tachys.files import write_whole

    form_of(output)
    read = given.read(capture, strict=strict)
    write_whole(output, capture_bytes(read, output))
    changes = sum(len(signal.at) for signal in read.signals.values())
    signals = count_text(len(read.signals), "signal")
    say(f"{output}: {signals}, {count_text(changes, 'change')}, {time_text(read.length)}", *read.remarks)
    return 0
