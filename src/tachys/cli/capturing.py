"""The options that say how a capture is written, and the reading of one, shared by every command that takes one."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

from tachys.cli.output import reading_progress

if TYPE_CHECKING:
    from tachys.capture.table import Capture

Command = TypeVar("Command", bound=Callable[..., Any])
SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t"}
_UNITS = click.Choice(["s", "ms", "us", "ns", "ps"])
_TIME_UNIT = click.option("--time-unit", type=_UNITS, help="Unit of the time column of a CSV.")
_SEPARATOR = click.option(
    "--separator", type=click.Choice(list(SEPARATORS)), help="What separates the columns of a CSV."
)


def shape_options(command: Command) -> Command:
    """Add the options of what a CSV looks like."""
    return _TIME_UNIT(_SEPARATOR(command))


whole_option = click.option(
    "--strict", is_flag=True, help="A file that is cut off is an error, not read up to the cut."
)


SHOWN_FROM = 32 << 20  # bytes: what takes a second or longer is shown as it goes


def read_given(path: str, time_unit: str | None, separator: str | None, strict: bool) -> Capture:
    """The capture that a command names; "-" is standard input."""
    from tachys.capture.csv import CsvShape
    from tachys.capture.reading import read_capture

    shape = CsvShape(SEPARATORS[separator] if separator else None, time_unit)
    stream = sys.stdin.buffer if path == "-" else None
    size = os.path.getsize(path) if stream is None and os.path.isfile(path) else 0
    with reading_progress(f"reading {path}", size if size >= SHOWN_FROM else 0) as told:
        return read_capture(path, shape, strict=strict, stream=stream, told=told)
