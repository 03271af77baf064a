"""The options that say how a capture is written, and the reading of one, shared by every command that takes one."""

from __future__ import annotations

import os
import sys
from fractions import Fraction
from functools import wraps
from typing import TYPE_CHECKING, Any

import click
from msgspec import Struct

from tachys.cli.options import Command, with_options
from tachys.cli.output import progress_through
from tachys.cli.parameters import RATE, TIME

if TYPE_CHECKING:
    from tachys.capture.packets import PacketShape
    from tachys.capture.reading import Reading
    from tachys.capture.table import Capture

SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t"}
SHOWN_FROM = 32 << 20  # bytes: what takes a second or longer is shown as it goes
_UNITS = click.Choice(["s", "ms", "us", "ns", "ps"])
_PACKETS = (
    click.option("--trace-clock", type=RATE, help="It is trace packets, whose time stamps this clock counts."),
    click.option("--prescale", type=click.Choice(["1", "4", "16", "64"]), help="What that clock is divided by."),
    click.option("--trace-stream", type=click.IntRange(1, 111), help="Which stream of frames of 16 bytes they are."),
)
_OPTIONS = (
    click.option("--time-unit", type=_UNITS, help="Unit of the time column of a CSV."),
    click.option("--separator", type=click.Choice(list(SEPARATORS)), help="What separates the columns of a CSV."),
    *_PACKETS,
    click.option("--step", type=TIME, help="The analyser's sampling step, where the file does not show it."),
)


class Given(Struct, frozen=True):
    """What a command line says of how captures are to be read, if anything."""

    reading: Reading | None = None

    def read(self, path: str, *, strict: bool = False) -> Capture:
        """The capture of that name; "-" is standard input."""
        stream = sys.stdin.buffer if path == "-" else None
        size = os.path.getsize(path) if stream is None and os.path.isfile(path) else 0
        with progress_through(f"reading {path}", size if size >= SHOWN_FROM else 0, of_bytes=True) as told:
            return self.how.read(path, strict=strict, stream=stream, told=told)

    @property
    def how(self) -> Reading:
        """The same for who reads it himself."""
        from tachys.capture.reading import Reading

        return self.reading or Reading()


def shape_options(command: Command) -> Command:
    """Add the options of how captures are read, which the command gets as ``given``."""

    @wraps(command)
    def bundled(
        *args: Any, time_unit: str | None, separator: str | None, step: Fraction | None, trace_clock: Fraction | None,
        prescale: str | None, trace_stream: int | None, **more: Any,
    ) -> Any:  # fmt: skip
        packets = _packets(trace_clock, prescale, trace_stream)
        given = Given()
        if any((time_unit, separator, step, packets)):
            from tachys.capture.csv import CsvShape
            from tachys.capture.reading import Reading

            shape = CsvShape(SEPARATORS[separator] if separator else None, time_unit)
            given = Given(Reading(shape, step, packets))
        return command(*args, given=given, **more)

    return with_options(command, bundled, _OPTIONS)


def packet_options(command: Command) -> Command:
    """Add the options of trace packets, which the command gets together as ``packets``."""

    @wraps(command)
    def bundled(
        *args: Any, trace_clock: Fraction | None, prescale: str | None, trace_stream: int | None, **more: Any
    ) -> Any:
        return command(*args, packets=_packets(trace_clock, prescale, trace_stream), **more)

    return with_options(command, bundled, _PACKETS)


def _packets(clock: Fraction | None, prescale: str | None, stream: int | None) -> PacketShape | None:
    if clock is None:
        if prescale or stream:
            raise click.UsageError('--prescale and --trace-stream go with --trace-clock "48 MHz"')
        return None
    from tachys.capture.packets import PacketShape

    return PacketShape(clock / int(prescale or 1), stream)


whole_option = click.option(
    "--strict", is_flag=True, help="A file that is cut off is an error, not read up to the cut."
)


def bus_options(command: Command) -> Command:
    """Add the options that put lines together to buses and name their values."""
    return with_options(command, command, (
        click.option("--bus", multiple=True, metavar="NAME=LINES",
                     help="A bus of lines, lowest bit first (state=D0,D1), or of a vector some bits "
                          "(low=PORT[3:0]) or a mask, where they stand (top=PORT&0xF0)."),
        click.option("--value", multiple=True, metavar="BUS:N=NAME", help="A name for a value of a bus."),
    ))  # fmt: skip


def meaning_of(capture: Capture, text: str) -> tuple[tuple[str, int], str]:
    """((bus, value), name) of "BUS:N=NAME"."""
    from tachys.errors import did_you_mean, input_error

    place, _, meaning = text.partition("=")
    bus, _, number = place.rpartition(":")
    try:
        value = int(number, 0)
    except ValueError:
        raise click.UsageError(f'--value: "{text}" names no value; write state:3=sowing') from None
    if bus not in capture.signals:
        mend = did_you_mean(bus, list(capture.signals), "signal")
        raise input_error(capture.file, f'there is no signal "{bus}"', mend, key="--value")
    return (bus, value), meaning


def with_bus(capture: Capture, text: str) -> Capture:
    """A capture with a bus as the option says it."""
    import re

    from tachys.capture.inspecting import add_bus, masked
    from tachys.errors import did_you_mean, input_error

    name, _, members = text.partition("=")
    part = re.fullmatch(r"(.+)\[(\d{1,3}):(\d{1,3})\]", members)
    mask = re.fullmatch(r"(.+)&\s*(0[xX][0-9a-fA-F]+|0[bB][01]+|\d+)", members)
    vector = part or mask
    lines = [vector.group(1).strip()] if vector else [line.strip() for line in members.split(",")]
    for line in lines:
        if line not in capture.signals:
            mend = did_you_mean(line, list(capture.signals), "signal")
            raise input_error(capture.file, f'there is no signal "{line}"', mend, key="--bus")
    if not name or len(lines) > 64:
        raise click.UsageError(f'--bus: "{text}" is no bus; write state=D0,D1,D2, low=PORT[3:0] or top=PORT&0xF0')
    if mask is not None:
        bits = int(mask.group(2), 0)
        if not 0 < bits < 1 << 64:
            raise click.UsageError(f'--bus: "{text}": a mask lets some of 64 bits through')
        return masked(capture, name, lines[0], bits)
    if part is None:
        return add_bus(capture, name, lines)
    high, low = int(part.group(2)), int(part.group(3))
    if high < low or high > 63:
        raise click.UsageError(f'--bus: "{text}": the higher bit comes first, at most 63')
    return masked(capture, name, lines[0], ((1 << (high - low + 1)) - 1) << low, low)
