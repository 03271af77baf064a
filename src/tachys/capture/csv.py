"""Comma-separated captures: a time column and a column a signal, changes only or regular samples.

There is no standard for these; separator, header, decimal comma and time unit are found out, or given.
"""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

import numpy as np

from tachys.capture.table import UNKNOWN, Capture, Signal, grid_of, make_signal
from tachys.errors import input_error

_PS = {"s": 10**12, "ms": 10**9, "us": 10**6, "ns": 10**3, "ps": 1}
_UNIT = re.compile(r"[\[(/ _](s|ms|us|µs|ns|ps|seconds?|sec)[\])]?\s*$", re.IGNORECASE)
_SEPARATORS = (";", "\t", ",")


@dataclass(frozen=True, slots=True)
class CsvShape:
    """What is known of a file beforehand; None is found out."""

    separator: str | None = None
    time_unit: str | None = None


FOUND_OUT = CsvShape()


def read_csv(lines: Iterable[str], file: str, shape: CsvShape = FOUND_OUT) -> Capture:
    """Read a capture; ``file`` is only shown.

    Raises:
        InputError: ragged rows, time that runs backwards, values that are no levels; with the line.
    """
    rows = [(number, line) for number, line in enumerate(lines, 1) if line.strip() and line.lstrip()[0] not in "#;%"]
    if not rows:
        raise input_error(file, "there are no rows", "a time column and a column a signal are due")
    separator = shape.separator or _find_separator(rows[0][1], file)
    names, unit, body = _header(rows, separator, file, shape)
    times, columns = _columns(body, separator, len(names), unit, file)
    grid_tick = 1 if len(times) < 2 else int(np.diff(times).min()) or 1
    sampled = len(times) > 2 and int(np.diff(times).max()) - grid_tick <= 1
    signals = _signals(names[1:], times, columns, file)
    grid = grid_tick if sampled else grid_of([np.asarray(times)], 1)
    return Capture(file, signals, int(times[0]), int(times[-1]), grid)


def _signals(names: list[str], times: list[int], columns: list[list[int]], file: str) -> dict[str, Signal]:
    signals: dict[str, Signal] = {}
    for name, column in zip(names, columns, strict=True):
        if name in signals:
            raise input_error(file, f'two columns are called "{name}"', "rename one of them")
        signals[name] = make_signal(name, max(1, max(column).bit_length()), times, column)
    return signals


def _find_separator(line: str, file: str) -> str:
    for separator in _SEPARATORS:
        if separator in line:
            return separator
    raise input_error(file, "no separator was found", "columns are separated by commas, semicolons or tabs", line=1)


def _header(
    rows: list[tuple[int, str]], separator: str, file: str, shape: CsvShape
) -> tuple[list[str], int, list[tuple[int, str]]]:
    """(names of all columns, ps of the time unit, rows of values)."""
    cells = _cells(rows[0][1], separator)
    if len(cells) < 2:
        raise input_error(file, "there is one column only", "a time column and a column a signal are due", line=1)
    if _number(cells[0], separator) is not None:
        names, unit, body = ["time", *(f"D{i}" for i in range(len(cells) - 1))], shape.time_unit, rows
    else:
        match = _UNIT.search(cells[0])
        names, body = cells, rows[1:]
        unit = shape.time_unit or (match.group(1) if match else None)
    if not body:
        raise input_error(file, "there are no rows below the header", "export it again", line=rows[0][0])
    word = (unit or "s").lower().replace("µ", "u")
    return names, _PS["s" if word.startswith("sec") else word], body


def _cells(line: str, separator: str) -> list[str]:
    return [cell.strip() for cell in next(csv.reader([line.rstrip("\r\n")], delimiter=separator))]


def _number(cell: str, separator: str) -> Decimal | None:
    try:
        number = Decimal(cell.replace(",", ".") if separator != "," else cell)
    except InvalidOperation:
        return None
    return number if number.is_finite() and abs(number.adjusted()) < 40 else None


def _columns(
    body: list[tuple[int, str]], separator: str, width: int, unit: int, file: str
) -> tuple[list[int], list[list[int]]]:
    times: list[int] = []
    columns: list[list[int]] = [[] for _ in range(width - 1)]
    levels: dict[str, int] = {"0": 0, "1": 1}
    for number, line in body:
        cells = _cells(line, separator)
        if len(cells) != width:
            wrong = f"{len(cells)} columns stand here, {width} in the first row"
            raise input_error(file, wrong, "every row has the same columns: export it again", line=number)
        time = _number(cells[0], separator)
        if time is None:
            raise input_error(file, f'"{cells[0][:40]}" is no time', "a number is due", line=number)
        instant = int((time * unit).to_integral_value())
        if abs(instant) > 2**62:
            raise input_error(file, f"the time {cells[0][:40]} is beyond 64 bits", "is its unit right?", line=number)
        if times and instant < times[-1]:
            raise input_error(file, "time runs backwards", "a capture is written in order of time", line=number)
        times.append(instant)
        for column, cell in zip(columns, cells[1:], strict=True):
            if cell not in levels:
                levels[cell] = _level(cell, file, number)
            column.append(levels[cell])
    return times, columns


def _level(cell: str, file: str, line: int) -> int:
    if cell.lower() in ("x", "z", ""):
        return UNKNOWN
    try:
        value = int(cell, 0) if cell[:2].lower() in ("0x", "0b") else int(cell)
    except ValueError:
        value = -1
    if not 0 <= value < 2**62:
        raise input_error(file, f'"{cell[:40]}" is no level', "0, 1, x, z or a bus value such as 0x1F", line=line)
    return value
