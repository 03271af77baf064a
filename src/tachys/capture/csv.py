"""Comma-separated captures: a time column and a column a signal, changes only or regular samples.

There is no standard for these; separator, header, decimal comma and time unit are found out, or given.
"""

from __future__ import annotations

import csv
import datetime
import math
import re
from collections import Counter
from collections.abc import Iterable, Iterator
from decimal import Decimal, InvalidOperation
from fractions import Fraction
from itertools import islice

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tachys.capture import csv_scan as scan
from tachys.capture.columns import ChangeBuffer
from tachys.capture.sampling import step_of, step_of_samples
from tachys.capture.scanning import NOT_KNOWN
from tachys.capture.table import MOST_BITS, Capture, Instants, Signal, bits_of, bits_used, distinct, timed, unsigned
from tachys.errors import InputError, input_error

_PS = {"s": 10**12, "ms": 10**9, "us": 10**6, "ns": 10**3, "ps": 1}
_UNIT = re.compile(r"[\[(]\s*([^\[\]()]*?)\s*[\])]\s*$|[/ _](s|ms|us|µs|μs|ns|ps|seconds?|sec)\s*$", re.IGNORECASE)
_MARK = re.compile(rb"[.,]")
_STAMP = re.compile(r"(?:(\d{4}-\d\d-\d\d)[T ])?(\d{1,2}:\d\d:\d\d)(?:[.,](\d{1,12}))?\s*$")
_LOOKED_AT = 1 << 17
_ENOUGH = 20  # rows that tell what the last digit of the largest times is
_LONGEST_LINE = 1 << 25
_SEPARATORS = (";", "\t", ",")


class CsvShape(Struct, frozen=True):
    """What is known of a file beforehand; None is found out."""

    separator: str | None = None
    time_unit: str | None = None


FOUND_OUT = CsvShape()


def read_csv(chunks: Iterable[bytes], file: str, shape: CsvShape = FOUND_OUT, *, strict: bool = False) -> Capture:
    """Read a capture from its bytes; ``file`` is only shown.

    A last line that is cut off is left out, with a remark; ``strict`` makes that an error.

    Raises:
        InputError: ragged rows, time that runs backwards, values that are no levels; with the line.
    """
    pieces = iter(chunks)
    head = b""
    for piece in pieces:
        head += piece
        if head.count(b"\n") > 200 or len(head) > 4 * _LONGEST_LINE or _tells_enough(head):
            break
    if b"\0" in head[:_LOOKED_AT]:
        line = head[: head.index(b"\0")].count(b"\n") + 1
        raise input_error(file, "holds NUL bytes: this is no text file", "name a capture file", line=line)
    head = head.removeprefix(b"\xef\xbb\xbf").replace(b"\r\n", b"\n") if b"\n" in head else head.replace(b"\r", b"\n")
    text = head[: max(_LOOKED_AT, _end_of_rows(head))].decode("utf-8", "replace")
    # lines end where the scanner ends them, and nowhere else
    numbered = enumerate(text.split("\n"), 1)
    rows = list(islice(((number, line) for number, line in numbered if _holds_values(line)), 3))
    if not rows:
        raise input_error(file, "there are no rows", "a time column and a column a signal are due")
    separator = shape.separator or _find_separator(rows, file)
    names, unit, before = _header(rows, separator, file, shape)
    _refuse_twins(names, file)
    body = head.split(b"\n", before)[-1] if before else head
    first = _cells(next(line for number, line in rows if number > before), separator)[0]
    scan_ = _Rows(file, names, _PS[unit or "s"], separator, before, stamps=_STAMP.match(first) is not None)
    if unit is None and not scan_.stamps:
        scan_.remarks.append("the time column has no unit, and is read as seconds; else say it: --time-unit us")
    return scan_.read(body, pieces, strict=strict)


def _tells_enough(head: bytes) -> bool:
    return len(head) > _LOOKED_AT and _end_of_rows(head) > 0


def _end_of_rows(head: bytes) -> int:
    """Where the header and two rows end; 0 where they are not all there."""
    at, rows = 0, 0
    while rows < 3:
        end = head.find(b"\n", at)
        if end < 0:
            return 0
        rows += _holds_values(head[at : min(end, at + 256)].decode("utf-8", "replace"))
        at = end + 1
    return at


def _holds_values(line: str) -> bool:
    return bool(line.strip()) and line.lstrip()[0] not in "#;%"


def _refuse_twins(names: list[str], file: str) -> None:
    for name, count in Counter(names).items():
        if count > 1:
            raise input_error(file, f'two columns are called "{name}"', "rename one of them")


def _find_separator(rows: list[tuple[int, str]], file: str) -> str:
    """Of those in the first row, the first by which the row below it has as many cells, else the first."""
    line, below = rows[0][1], rows[min(1, len(rows) - 1)][1]
    present = [separator for separator in _SEPARATORS if len(_cells(line, separator)) > 1]
    alike = [each for each in present if len(_cells(line, each)) == len(_cells(below, each))]
    if present:
        return (alike or present)[0]
    raise input_error(file, "no separator was found", "columns are separated by commas, semicolons or tabs", line=1)


def _header(
    rows: list[tuple[int, str]], separator: str, file: str, shape: CsvShape
) -> tuple[list[str], str | None, int]:
    """(names of all columns, the unit of time if one is named, lines before the first row of values)."""
    cells = _cells(rows[0][1], separator)
    if len(cells) < 2:
        raise input_error(file, "there is one column only", "a time column and a column a signal are due", line=1)
    if _number(cells[0], separator) is not None or _STAMP.match(cells[0]):
        names, unit, body = ["time", *(f"D{i}" for i in range(len(cells) - 1))], shape.time_unit, rows
    else:
        names, body = cells, rows[1:]
        unit = _unit_of(cells[0], shape.time_unit, file, rows[0][0])
    if not body:
        raise input_error(file, "there are no rows below the header", "export it again", line=rows[0][0])
    return names, unit, body[0][0] - 1


def _unit_of(cell: str, given: str | None, file: str, line: int) -> str | None:
    """The unit of time that a header names, or that is given; None where neither is.

    Raises:
        InputError: the header names one that is not known, or another than the one given.
    """
    match = _UNIT.search(cell)
    said = (match.group(1) or match.group(2) or "") if match else ""
    word = said.lower().replace("µ", "u").replace("μ", "u")
    unit = "s" if word.startswith("sec") else word
    if given is None and unit and unit not in _PS:
        raise input_error(
            file, f'the unit "{said}" of the time column is not known',
            "s, ms, us, ns or ps; or say it: --time-unit us", line=line,
        )  # fmt: skip
    if given is not None and unit in _PS and unit != given:
        raise input_error(
            file, f'the header says "{said}", and --time-unit {given}', "one of the two is wrong", line=line
        )
    return given or unit or None


def _cells(line: str, separator: str) -> list[str]:
    line = line.rstrip("\r\n")
    if '"' not in line or len(line) > csv.field_size_limit():
        return [cell.strip().strip('"') for cell in line.split(separator)]
    return [cell.strip() for cell in next(csv.reader([line], delimiter=separator))]


def _number(cell: str, separator: str) -> Decimal | None:
    try:
        number = Decimal(cell.replace(",", ".") if separator != "," else cell)
    except InvalidOperation:
        return None
    return number if number.is_finite() and abs(number.adjusted()) < 40 else None


class _Rows:
    """The rows of a file, scanned piece by piece."""

    def __init__(self, file: str, names: list[str], unit: int, separator: str, before: int, *, stamps: bool) -> None:
        self.file = file
        self.names = names[1:]
        self.separator = separator
        self.point = ord(".")
        self.unit = 1 if stamps else unit
        self.stamps = stamps
        self.stamped = 10**12  # what the last digit of the finest stamp stands for, in ps
        self.start: int | None = None  # the second of the first time stamp
        self.state = np.zeros(scan.C_STATE, np.int64)
        self.state[scan.ROW], self.state[scan.LEAD], self.state[scan.FINEST] = before, -100, 100
        self.now, self.told, self.real = (np.zeros(len(self.names), np.int64) for _ in range(3))
        self.gathered = ChangeBuffer(len(self.names))
        if len(self.names) * 4 > len(self.gathered.times):
            room = 4 * len(self.names)
            self.gathered.times, self.gathered.values = np.empty(room, np.int64), np.empty(room, np.int64)
            self.gathered.which = np.empty(room, np.int32)
        self.row_above = b""
        self.turns: dict[int, int] = {}  # how many changes a real column had as levels
        self.remarks: list[str] = []

    def read(self, rest: bytes, pieces: Iterator[bytes], *, strict: bool) -> Capture:
        """Scan all rows."""
        if self.separator != "," and (mark := _MARK.search(rest)):  # where it does not separate, it may be a point
            self.point = ord(mark.group())
        rest = self._scan(rest)
        for piece in pieces:
            if b"\n" not in piece and len(rest) > _LONGEST_LINE:
                raise self._error(f"a line of more than {_LONGEST_LINE} bytes", "this is no capture")
            rest = self._scan(rest + piece)
        if rest.strip():
            self._last_line(rest, strict)
        if not self.state[scan.ROWS]:
            raise self._error("there are no rows below the header", "export it again")
        return self._capture()

    def _last_line(self, rest: bytes, strict: bool) -> None:
        """A last line without an end is whole only if it fits and its last level is written as the one above it is."""
        cell, above = (self._last_cell(line) for line in (rest, self.row_above))
        sure = any(cell in alike and above in alike for alike in ((b"0", b"1"), (b"0.0", b"1.0"))) and not self.real[-1]
        try:
            if sure or strict:
                self._scan(rest + b"\n")
        except InputError:
            if strict:
                raise
            self.state[scan.C_FAULT], sure = 0, False
        if not sure:
            if strict:
                raise self._error("the file ends in the middle of a line", "it is cut off: export it again")
            line = int(self.state[scan.ROW]) + 1
            self.remarks.append(f"line {line}, the last, has no end: it may be cut off, and is left out")

    def _last_cell(self, line: bytes) -> bytes:
        return line.rsplit(self.separator.encode(), 1)[-1].strip().strip(b'"')

    def _scan(self, data: bytes) -> bytes:
        """Scan whole lines; what is left of the last one."""
        if (end := data.rfind(b"\n")) >= 0:
            self.row_above = data[data.rfind(b"\n", 0, end) + 1 : end]
        if self.stamps:
            whole, newline, left = data.rpartition(b"\n")
            data = b"\n".join(self._stamped(line) for line in whole.split(b"\n")) + b"\n" if newline else b""
            self._scan_columns(data)
            return left
        return self._scan_columns(data)

    def _scan_columns(self, data: bytes) -> bytes:
        columns, gathered, at = np.frombuffer(data, np.uint8), self.gathered, 0
        while True:
            used, found = scan.scan_columns(
                columns[at:], len(data) - at, ord(self.separator), self.point, self.unit, self.state, self.now,
                self.told, self.real, gathered.times, gathered.which, gathered.values,
            )  # fmt: skip
            gathered.take(found)
            if self.state[scan.C_FAULT]:
                self._take_numbers(data[at : at + used])
                found = len(gathered.times)
            at += used
            if used == 0 or found < len(gathered.times) - len(self.names):
                return data[at:]

    def _take_numbers(self, lines: bytes) -> None:
        """The last of the lines has numbers that are no levels: read it with their bits, or say what is wrong in it."""
        line, separator = lines.rstrip(b"\n").rpartition(b"\n")[2], self.separator.encode()
        cells, turned = line.split(separator), []
        if self.state[scan.C_FAULT] != scan.NO_LEVEL or len(cells) != len(self.names) + 1:
            self._complain(lines)
        for column, cell in enumerate(cells[1:]):
            _end, how, _ = scan.read_level.plain(cell, 0, len(cell), 0)
            if how >= 0 and not self.real[column]:
                continue
            number = math.nan if how == NOT_KNOWN else _as_float(cell, self.point)
            if number is None:
                self.state[scan.C_COLUMN] = column + 1
                self._complain(lines)
            else:
                cells[column + 1] = b"x" if number != number else str(unsigned(bits_of(number))).encode()
                turned += [] if self.real[column] else [column]
        for column in turned:
            self.real[column], self.turns[column] = 1, self.gathered.count(column)
        self.state[scan.C_FAULT], self.state[scan.AS_BITS] = 0, 1
        self.state[scan.ROW] -= 1
        self._scan_columns(separator.join(cells) + b"\n")
        self.state[scan.AS_BITS] = 0

    def _stamped(self, line: bytes) -> bytes:
        """A line whose date and time of day is turned into picoseconds since the first one."""
        stamp, mark, levels = line.decode("utf-8", "replace").partition(self.separator)
        match = _STAMP.match(stamp.strip().strip('"'))
        if match is None:
            return line
        date, clock, decimals = match.groups()
        try:
            day = datetime.date.fromisoformat(date).toordinal() if date else 0
        except ValueError:
            return line  # told as no time, with its row
        hours, minutes, seconds = map(int, clock.split(":"))
        whole = ((day * 24 + hours) * 60 + minutes) * 60 + seconds
        self.start = whole if self.start is None else self.start
        self.stamped = min(self.stamped, 10 ** max(0, 12 - len(decimals or "")))
        ps = (whole - self.start) * 10**12 + int((decimals or "").ljust(12, "0")[:12])
        return f"{ps}{mark}{levels}".encode()

    def _error(self, wrong: str, mend: str) -> InputError:
        return input_error(self.file, wrong, mend, line=int(self.state[scan.ROW]))

    def _complain(self, lines: bytes) -> None:
        """Say what is wrong in the last of the lines."""
        line = lines.rstrip(b"\n").rpartition(b"\n")[2].decode("utf-8", "replace")
        cells = [cell.strip() for cell in line.split(self.separator)]
        fault, column = int(self.state[scan.C_FAULT]), int(self.state[scan.C_COLUMN])
        if fault == scan.RAGGED or (fault == scan.NO_LEVEL and len(cells) != len(self.names) + 1):
            wrong = f"{len(cells)} columns stand here, {len(self.names) + 1} in the first row"
            raise self._error(wrong, "every row has the same columns: export it again")
        if fault == scan.C_BACKWARDS:
            raise self._error("time runs backwards", "a capture is written in order of time")
        if fault == scan.TOO_LONG:
            raise self._error(f"the time {cells[0][:40]} is beyond 64 bits", "is its unit right?")
        if fault == scan.NO_NUMBER:
            raise self._error(f'"{cells[0][:40]}" is no time', "a number is due")
        cell = cells[min(column, len(cells) - 1)]
        if fault == scan.TOO_MANY_BITS:
            raise self._error(f'"{cell[:40]}" is wider than 64 bits', "leave the column out of the export")
        raise self._error(f'"{cell[:40]}" is no level', "0, 1, x, z, a bus value such as 0x1F, or a number")

    def _capture(self) -> Capture:
        first, last = int(self.state[scan.FIRST_TIME]), int(self.state[scan.LAST_TIME])
        least, most, rows = (int(self.state[place]) for place in (scan.LEAST_STEP, scan.MOST_STEP, scan.ROWS))
        signals = {}
        for column, (name, data) in enumerate(zip(self.names, self.gathered.signals(), strict=True)):
            signal = Signal(name, MOST_BITS, *data, real=bool(self.real[column]))
            if signal.real:
                signals[name] = _as_numbers(signal, self.turns[column])
            else:
                signals[name] = replace(signal, width=bits_used(signal))
        digit = self._last_digit()
        columns = timed(signals.values())
        sampled = rows > 2 and least > 0 and most - least <= digit and _some_rows_repeat(columns, rows)
        if sampled:
            step = step_of_samples(first, last, rows, digit)
        else:
            step = step_of(columns, digit)
        return Capture(self.file, signals, first, last, step.ps, tuple(self.remarks), step.rounding)

    def _last_digit(self) -> int:
        """What the last digit of a time stands for, in ps; where digits grow coarser as times grow, the coarser."""
        if self.stamps:
            return self.stamped
        known = self.state[scan.DIGIT] if self.state[scan.AT_LEAD] >= _ENOUGH else self.state[scan.FINEST]
        return max(1, int(self.unit * Fraction(10) ** int(known)))


def _some_rows_repeat(columns: list[Instants], rows: int) -> bool:
    """Whether rows stand there in which nothing changes: those of a file with a row a sample."""
    total = sum(map(len, columns))
    return total < rows or len(distinct(np.concatenate(columns))) < rows


def _as_float(cell: bytes, point: int) -> float | None:
    text = cell.strip(b' \t\r"').replace(bytes([point]), b".")
    try:
        return float(text) if b"_" not in text else None
    except ValueError:
        return None


def _as_numbers(signal: Signal, levels: int) -> Signal:
    """A real signal whose first values were read as levels."""
    value = signal.value.copy()
    value[:levels] = value[:levels].view(np.uint64).astype(np.float64).view(np.int64)
    return replace(signal, value=value).without_repeats()
