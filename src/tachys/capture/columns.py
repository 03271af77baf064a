"""Changes as they are scanned, piece by piece, and dealt out to a column a signal at the end."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tachys.capture.scanning import Ints, count_slots, deal_out

CHUNK = 1 << 18
MOST_CHANGES = 1 << 31


@dataclass(slots=True)
class Gathered:
    """The changes of a file in pieces: times in ticks, slots, values."""

    slots: int
    pieces: list[tuple[Ints, Any, Any]] = field(default_factory=list)
    times: Ints = field(default_factory=lambda: np.empty(CHUNK, np.int64))
    which: Any = field(default_factory=lambda: np.empty(CHUNK, np.int32))
    values: Ints = field(default_factory=lambda: np.empty(CHUNK, np.int64))
    total: int = 0

    def take(self, found: int) -> None:
        """Keep the first ``found`` changes of the columns that a scanner has filled; values as bytes where they fit."""
        if not found:
            return
        values = self.values[:found]
        small: Any = values.astype(np.int8) if int(values.max()) < 128 else values.copy()
        self.pieces.append((self.times[:found].copy(), self.which[:found].copy(), small))
        self.total += found

    def signals(self) -> list[tuple[Ints, Ints]]:
        """(times, values) of every slot, repeated values dropped. The pieces are given up on the way."""
        counts = np.zeros(self.slots, np.int64)
        for _, which, _ in self.pieces:
            count_slots(which, counts)
        first = np.concatenate([[0], np.cumsum(counts)])
        ends = first[:-1].copy()
        last, seen = np.zeros(self.slots, np.int64), np.zeros(self.slots, np.int64)
        times, values = np.empty(first[-1], np.int64), np.empty(first[-1], np.int64)
        self.pieces.reverse()
        while self.pieces:
            at, which, value = self.pieces.pop()
            deal_out(at, which, value.astype(np.int64), ends, last, seen, times, values)
        return [(times[a:b], values[a:b]) for a, b in zip(first[:-1].tolist(), ends.tolist(), strict=True)]
