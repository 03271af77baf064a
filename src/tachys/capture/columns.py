"""Changes as they are scanned, piece by piece, and dealt out to a column a signal at the end.

Small captures stay in memory. Beyond :data:`IN_MEMORY` changes the pieces and then the columns go to temporary files
that are mapped, so that what is looked at is bounded by blocks and not by the capture.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any, BinaryIO, cast

import numpy as np
from msgspec import Struct, field

from tachys.capture.scanning import Ints, count_slots, deal_out
from tachys.capture.table import Known

CHUNK = 1 << 18
MOST_CHANGES = 1 << 31
IN_MEMORY = 1 << 24  # changes
_LASTING = Path("/var/tmp")  # where temporary files are on disk, which elsewhere may be memory


class ChangeBuffer(Struct):
    """The changes of a file in pieces: times in ticks, slots, values."""

    slots: int
    pieces: list[tuple[Ints, Any, Any]] = field(default_factory=list)
    times: Ints = field(default_factory=lambda: np.empty(CHUNK, np.int64))
    which: Any = field(default_factory=lambda: np.empty(CHUNK, np.int32))
    values: Ints = field(default_factory=lambda: np.empty(CHUNK, np.int64))
    total: int = 0
    in_memory: int = IN_MEMORY
    _spilled: list[BinaryIO] = field(default_factory=list)

    def take(self, found: int) -> None:
        """Keep the first ``found`` changes of the columns that a scanner has filled; values as bytes where they fit."""
        if not found:
            return
        values = self.values[:found]
        fits = int(values.max()) < 128 and int(values.min()) >= -128
        small: Any = values.astype(np.int8) if fits else values.copy()
        self.total += found
        if self.total <= self.in_memory:
            self.pieces.append((self.times[:found].copy(), self.which[:found].copy(), small))
            return
        if not self._spilled:
            self._spilled = [_on_disk() for _ in range(3)]
            for piece in self.pieces:
                self._spill(*piece)
            self.pieces.clear()
        self._spill(self.times[:found], self.which[:found], values)

    def _spill(self, times: Ints, which: Any, values: Any) -> None:
        for file, column in zip(self._spilled, (times, which, values.astype(np.int64, copy=False)), strict=True):
            file.write(column.tobytes())

    def _in_order(self) -> Iterator[tuple[Ints, Any, Any]]:
        """The pieces in order, again and again."""
        if not self._spilled:
            yield from self.pieces
            return
        for file in self._spilled:
            file.seek(0)
        times, which, values = self._spilled
        while data := times.read(8 * CHUNK):
            count = len(data) // 8
            yield (
                np.frombuffer(data, np.int64),
                np.frombuffer(which.read(4 * count), np.int32),
                np.frombuffer(values.read(8 * count), np.int64),
            )

    def count(self, slot: int) -> int:
        """How many changes of a slot there are so far."""
        return sum(int(((which == slot) | (which == ~slot)).sum()) for _, which, _ in self._in_order())

    def signals(
        self, scale: Fraction = Fraction(1), last: Ints | None = None, seen: Ints | None = None
    ) -> list[tuple[Ints, Ints, Known]]:
        """(times, values, which are known) of every slot, repeated values dropped.

        Times are multiplied by ``scale`` and rounded down. The pieces are given up on the way. ``last`` and ``seen``
        are what each slot was before, see :func:`deal_out`.
        """
        counts = np.zeros(self.slots, np.int64)
        for _, which, _ in self._in_order():
            count_slots(which, counts)
        first = np.concatenate([[0], np.cumsum(counts)])
        ends = first[:-1].copy()
        last = np.zeros(self.slots, np.int64) if last is None else last
        seen = np.zeros(self.slots, np.int64) if seen is None else seen
        count, most = int(first[-1]), self.in_memory
        times, values, known = (column(count, kind, most) for kind in (np.int64, np.int64, np.bool_))
        over, under = scale.numerator, scale.denominator
        for at, which, value in self._given_up():
            deal_out(at, which, value.astype(np.int64), over, under, ends, last, seen, times, values, known)
        for file in self._spilled:
            file.close()
        return [(times[a:b], values[a:b], known[a:b]) for a, b in zip(first[:-1].tolist(), ends.tolist(), strict=True)]

    def _given_up(self) -> Iterator[tuple[Ints, Any, Any]]:
        if self._spilled:
            yield from self._in_order()
        self.pieces.reverse()
        while self.pieces:
            yield self.pieces.pop()


def column(count: int, kind: type, in_memory: int = IN_MEMORY) -> Any:
    """An array of that length, mapped from a temporary file where it is longer than ``in_memory``."""
    if count <= in_memory:
        return np.empty(count, kind)
    with _on_disk() as file:
        return np.asarray(np.memmap(file, kind, "w+", shape=(count,)))


def _on_disk() -> BinaryIO:
    """A temporary file that is gone when it is closed and no longer mapped."""
    folder = _LASTING if _LASTING.is_dir() else None
    try:
        return cast(BinaryIO, tempfile.TemporaryFile(dir=folder))
    except OSError:
        return cast(BinaryIO, tempfile.TemporaryFile())
