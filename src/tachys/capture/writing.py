"""Writing a capture in another format, with the same instants: VCD, CSV, Parquet, event stream."""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import nullcontext
from itertools import islice
from pathlib import Path
from typing import BinaryIO, cast

import numpy as np
from msgspec.structs import replace

from tachys.capture.eventstream import NUMBER_BITS
from tachys.capture.parquet import write_parquet
from tachys.capture.table import Capture, in_order, unsigned
from tachys.errors import input_error

_AT_ONCE = 1 << 16  # changes, and lines, that are held while it is written
FORMS = (".vcd", ".csv", ".parquet", ".events")


def form_of(output: str) -> str:
    """The form that the ending of a file tells, a ``.gz`` behind it apart.

    Raises:
        InputError: it tells none.
    """
    form = Path(output.removesuffix(".gz")).suffix.lower()
    if form not in FORMS:
        wrong = "its ending tells no form of a capture"
        raise input_error(output, wrong, f"end it in {', '.join(FORMS)}, or .gz behind one of these")
    return form


def write_capture(capture: Capture, output: str, stream: BinaryIO) -> None:
    """Write a capture in the form that the ending of ``output`` tells (``.gz`` behind it packs), block by block.

    Raises:
        InputError: the ending tells no form, or Parquet is not installed.
    """
    import gzip

    form = form_of(output)
    packs = output.endswith(".gz")  # at the level of gzip itself
    with gzip.GzipFile("", "wb", 6, stream, mtime=0) if packs else nullcontext(stream) as into:
        if form == ".parquet":
            write_parquet(capture, output, cast(BinaryIO, into))
            return
        text = {".vcd": _vcd, ".csv": _csv, ".events": _events}[form](capture)
        while piece := "".join(islice(text, _AT_ONCE)):
            into.write(piece.encode())


def identifier(number: int) -> str:
    """The identifier code of a signal by its number: as few printable characters as will do."""
    text = ""
    while True:
        text += chr(33 + number % 94)
        number //= 94
        if not number:
            return text


def _vcd(capture: Capture) -> Iterator[str]:
    signals = list(capture.signals.values())
    yield "$version Tachys $end\n$timescale 1 ps $end\n$scope module capture $end\n"
    for number, signal in enumerate(signals):
        name = "_".join(signal.name.split()) or "_"
        yield f"$var {'real' if signal.real else 'wire'} {signal.width} {identifier(number)} {name} $end\n"
    yield f"$upscope $end\n$enddefinitions $end\n#{max(0, capture.begin)}\n"
    shift = -min(0, capture.begin)
    last = capture.begin
    for time, number, value in _changes(capture):
        if time != last:
            yield f"#{time + shift}\n"
            last = time
        if signals[number].real:
            yield f"r{'nan' if value is None else repr(_real(value))} {identifier(number)}\n"
        elif signals[number].width == 1:
            yield f"{'x' if value is None else value}{identifier(number)}\n"
        else:
            yield f"b{'x' if value is None else format(unsigned(value), 'b')} {identifier(number)}\n"
    if last != capture.end:
        yield f"#{capture.end + shift}\n"


def _csv(capture: Capture) -> Iterator[str]:
    import csv

    head = io.StringIO()
    csv.writer(head, lineterminator="\n").writerow(["Time [ns]", *capture.signals])
    yield head.getvalue()
    names, levels = list(capture.signals), ["x"] * len(capture.signals)
    last: int | None = None
    for time, number, value in _changes(capture):
        if last is not None and time != last:
            yield _row(last, levels)
        if value is None:
            levels[number] = "x"
        else:
            levels[number] = repr(_real(value)) if capture.signals[names[number]].real else str(unsigned(value))
        last = time
    if last is not None:
        yield _row(last, levels)
    if last != capture.end:
        yield _row(capture.end, levels)


def _changes(capture: Capture) -> Iterator[tuple[int, int, int | None]]:
    """(instant, number of the signal, the bits of its value or None) of all changes, in order of time."""
    for columns in in_order(capture, _AT_ONCE):
        for time, number, bits, told in zip(*(column.tolist() for column in columns), strict=True):
            yield time, number, bits if told else None


def _real(bits: int) -> float:
    return float(np.int64(bits).view(np.float64))


def _row(time: int, levels: list[str]) -> str:
    sign, time = ("-", -time) if time < 0 else ("", time)
    return f"{sign}{time // 1000}.{time % 1000:03d},{','.join(levels)}\n"


def _events(capture: Capture) -> Iterator[str]:
    # a real number is no event, nor one that is wider than what a stream holds
    lines = {name: each for name, each in capture.signals.items() if not each.real and each.width <= NUMBER_BITS}
    names, wide = [name.replace(",", "_") for name in lines], [each.width > 1 for each in lines.values()]
    gaps = sorted((begin for begin, _ in capture.gaps), reverse=True)
    yield "# unit = 1 ps\n"
    for time, number, value in _changes(replace(capture, signals=lines)):
        while gaps and time > gaps[-1]:  # what follows is told anew
            gaps.pop()
            yield ",gap\n"
        if value is not None and (value or wide[number] or time != capture.begin):
            what = f"={value}" if wide[number] else "enter" if value else "leave"
            yield f"{max(0, time)},{names[number]},{what}\n"
