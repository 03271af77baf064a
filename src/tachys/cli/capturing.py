"""The options that say how a capture is written, and the reading of one, shared by every command that takes one."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import wraps
from math import ceil
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click

from tachys.cli.output import reading_progress
from tachys.cli.parameters import TIME
from tachys.model.quantities import PS_PER_SECOND

if TYPE_CHECKING:
    from tachys.capture.table import Capture

Command = TypeVar("Command", bound=Callable[..., Any])
SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t"}
SHOWN_FROM = 32 << 20  # bytes: what takes a second or longer is shown as it goes
_UNITS = click.Choice(["s", "ms", "us", "ns", "ps"])
_OPTIONS = (
    click.option("--time-unit", type=_UNITS, help="Unit of the time column of a CSV."),
    click.option("--separator", type=click.Choice(list(SEPARATORS)), help="What separates the columns of a CSV."),
    click.option("--step", type=TIME, help="The analyser's sampling step, where the file does not show it."),
)


@dataclass(frozen=True, slots=True)
class Given:
    """What a command line says of how captures are to be read."""

    time_unit: str | None = None
    separator: str | None = None
    step: Fraction | None = None

    def read(self, path: str, *, strict: bool = False) -> Capture:
        """The capture of that name; "-" is standard input."""
        from tachys.capture.csv import CsvShape
        from tachys.capture.reading import read_capture

        shape = CsvShape(SEPARATORS[self.separator] if self.separator else None, self.time_unit)
        stream = sys.stdin.buffer if path == "-" else None
        size = os.path.getsize(path) if stream is None and os.path.isfile(path) else 0
        with reading_progress(f"reading {path}", size if size >= SHOWN_FROM else 0) as told:
            capture = read_capture(path, shape, strict=strict, stream=stream, told=told)
        return capture if self.step is None else replace(capture, resolution=ceil(self.step * PS_PER_SECOND))


def shape_options(command: Command) -> Command:
    """Add the options of how captures are read, which the command gets as ``given``."""

    @wraps(command)
    def bundled(*args: Any, time_unit: str | None, separator: str | None, step: Fraction | None, **more: Any) -> Any:
        return command(*args, given=Given(time_unit, separator, step), **more)

    made: Any = bundled
    for option in reversed(_OPTIONS):
        made = option(made)
    return cast(Command, made)


whole_option = click.option(
    "--strict", is_flag=True, help="A file that is cut off is an error, not read up to the cut."
)
