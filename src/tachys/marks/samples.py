"""A few pins as a small board sends them: a byte a sample, bit by bit, at a rate that is known."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction

import numpy as np

from tachys.errors import input_error
from tachys.marks.stream import Speaker, Told

MOST_BITS = 8


class Samples:
    """Bytes in, lines of an event stream out; as :class:`~tachys.marks.stream.Stream`.

    ``names`` of the bits, the lowest first; an empty one is not recorded.

    Raises:
        InputError: there are more names than a byte has bits, or two are the same.
    """

    def __init__(self, names: Sequence[str], hertz: int) -> None:
        named = [name for name in names if name]
        if not named or len(names) > MOST_BITS or len({*named}) < len(named):
            raise input_error("--bits", f"a byte has {MOST_BITS} bits, each with a name of its own", "write D0,D1,D2")
        self.told = Told()
        self.speaker: Speaker | None = Speaker(hertz, 0, Fraction(0))
        self._names = names
        self._last: int | None = None
        self._count = 0

    @property
    def seconds(self) -> float:
        """How long the samples reach."""
        return 0.0 if self.speaker is None else self._count / self.speaker.hertz

    def feed(self, piece: bytes) -> Iterator[str]:
        """The lines that so many more samples tell."""
        if not piece:
            return
        if self._last is None:
            assert self.speaker is not None
            yield f"# counts = {self.speaker.hertz} Hz"
            yield "time,name,what"
            self._last = piece[0]  # what a line is before its first change, that change tells
        row = np.frombuffer(bytes([self._last]) + piece, np.uint8)
        places = np.flatnonzero(row[1:] != row[:-1])
        for place in places.tolist():
            changed, level = int(row[place] ^ row[place + 1]), int(row[place + 1])
            for bit, name in enumerate(self._names):
                if name and changed >> bit & 1:
                    self.told.marks += 1
                    yield f"{self._count + place},{name},{'enter' if level >> bit & 1 else 'leave'}"
        self._last = piece[-1]
        self._count += len(piece)

    def end(self) -> Iterator[str]:
        """Nothing is left: a sample is a byte."""
        yield from ()
