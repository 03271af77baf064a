"""A capture in memory: for every signal the instants at which it changes and the value it takes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import numpy.typing as npt
from msgspec import Struct, field
from msgspec.structs import replace

from tachys.frames import frame

if TYPE_CHECKING:
    import pandas as pd

Instants = npt.NDArray[np.int64]
Values = npt.NDArray[np.signedinteger[Any]]  # of 64 bits; of levels also of 8
Known = npt.NDArray[np.bool_]
MOST_BITS = 64  # of a value; a file with a wider one is refused
BLOCK = 1 << 19


class Signal(Struct, frozen=True):
    """One line or bus. ``at`` in ps, ascending; ``value`` holds from there on, and where not ``known`` it was x or z.

    A value is the 64 bits of an unsigned number, or of a double where ``real``, and -1 where it is not known; of levels
    it may be a byte. Take it by :meth:`number`. Neighbours differ: what a file repeats is dropped. Large columns are
    mapped from a temporary file; go through them by :func:`blocks`.
    """

    name: str
    width: int
    at: Instants
    value: Values
    known: Known
    real: bool = False

    def __repr__(self) -> str:
        return f"<Signal {self.name}: {len(self.at)} changes, {'real' if self.real else f'{self.width} bits'}>"

    @property
    def bits(self) -> npt.NDArray[np.uint64]:
        """The values as unsigned numbers."""
        return self.value.astype(np.int64, copy=False).view(np.uint64)

    @property
    def reals(self) -> npt.NDArray[np.float64]:
        """The values of a real signal, not a number where it is unknown."""
        return self.value.view(np.float64)

    def number(self, place: int) -> int | float | None:
        """The value at a place; None where it is not known."""
        if not self.known[place]:
            return None
        return float(self.reals[place]) if self.real else unsigned(int(self.value[place]))

    def changes(self) -> Known:
        """Where the value is another than the one before it, the first included."""
        keep = np.ones(len(self.value), np.bool_)
        keep[1:] = (self.value[1:] != self.value[:-1]) | (self.known[1:] != self.known[:-1])
        return keep

    def without_repeats(self) -> Signal:
        """The signal with neighbours that differ."""
        keep = self.changes()
        return replace(self, at=self.at[keep], value=self.value[keep], known=self.known[keep])


class Switch(NamedTuple):
    """How long the core took from routine to routine, in ps: the least, the middle and the most of so many times."""

    times: int
    least: int
    median: int
    most: int


class Capture(Struct, frozen=True):
    """A whole capture, from ``begin`` to ``end`` ps of the analyser's clock.

    ``resolution`` is the step of its instants in ps, or what their last digit stands for: no edge is known better. By
    ``rounding`` ps more may the distance of two be off, as they were printed. In ``gaps`` nothing was recorded.
    ``switches``: what no line shows, where the core tells it itself: "exit", to what goes on, and "chain", to the next.
    ``told``: who recorded it told each edge as it came, and so lost none between two instants.
    """

    file: str
    signals: dict[str, Signal]
    begin: int
    end: int
    resolution: int
    remarks: tuple[str, ...] = ()
    rounding: int = 0
    gaps: tuple[tuple[int, int], ...] = ()
    switches: dict[str, Switch] = field(default_factory=dict)
    told: bool = False

    def __repr__(self) -> str:
        return f"<Capture {self.file}: {len(self.signals)} signals, {self.length / 10**12:g} s>"

    def to_frame(self) -> pd.DataFrame:
        """A row a change: the instant in seconds, the signal, its value (none where it is not known)."""
        rows = [
            (int(at), name, signal.number(place))
            for name, signal in self.signals.items()
            for place, at in enumerate(signal.at)
        ]
        in_order = sorted(rows, key=lambda row: row[0])
        return frame(["time", "signal", "value"], [(at / 10**12, name, value) for at, name, value in in_order])

    @property
    def name(self) -> str:
        """Its file, without the folders."""
        return self.file.rsplit("/", 1)[-1]

    @property
    def known_to(self) -> int:
        """How far off the distance of two instants may be, in ps."""
        return self.resolution + self.rounding

    @property
    def length(self) -> int:
        """How long the capture is, in ps."""
        return self.end - self.begin


def make_signal(name: str, width: int, at: Iterable[int], value: Iterable[int | None]) -> Signal:
    """A signal from its changes in order, repeated values dropped; None: not known."""
    values = list(value)
    bits = np.array([2**64 - 1 if each is None else each for each in values], np.uint64).view(np.int64)
    known = np.array([each is not None for each in values], np.bool_)
    return Signal(name, width, np.fromiter(at, np.int64), bits, known).without_repeats()


def timed(signals: Iterable[Signal]) -> list[Instants]:
    """The instants that tell how well edges are known: those of levels, or of numbers where there are no levels."""
    known = list(signals)
    return [signal.at for signal in known if not signal.real] or [signal.at for signal in known]


def unsigned(bits: int) -> int:
    """The number whose 64 bits these are."""
    return bits & (2**64 - 1)


def bits_of(value: float) -> int:
    """A double as the signed integer of the same 64 bits."""
    return int(np.float64(value).view(np.int64))


def bits_used(signal: Signal) -> int:
    """How many bits the largest of the known values has, at least 1."""
    values = [signal.bits[first:last][signal.known[first:last]] for first, last in blocks(len(signal.value))]
    return max([1, *(int(part.max()).bit_length() for part in values if len(part))])


def distinct(values: Instants) -> Instants:
    """The values in order, each once: sorted, since a table of hashes takes fifty times as long for times on a grid."""
    ordered = np.sort(values)
    return ordered[np.append(True, ordered[1:] != ordered[:-1])] if len(ordered) else ordered


def blocks(count: int, size: int = BLOCK) -> Iterator[tuple[int, int]]:
    """[first, last) of the blocks by which a long column is gone through."""
    for first in range(0, count, size):
        yield first, min(first + size, count)


def in_order(capture: Capture, size: int = BLOCK) -> Iterator[tuple[Instants, Instants, Values, Known]]:
    """(instants, numbers of signals, values, which are known) of all changes in order of time, block by block.

    What happens at one instant stands in one block.
    """
    signals = list(capture.signals.values())
    size, hands = max(1, size // max(1, len(signals))), [0] * len(signals)
    while any(hand < len(signal.at) for signal, hand in zip(signals, hands, strict=True)):
        reached = [int(s.at[hand + size]) for s, hand in zip(signals, hands, strict=True) if hand + size < len(s.at)]
        until = min(reached, default=np.iinfo(np.int64).max)
        ends = [int(np.searchsorted(signal.at, until, side="right")) for signal in signals]
        parts = [slice(first, last) for first, last in zip(hands, ends, strict=True)]
        at, values, known = (
            np.concatenate([column[part] for column, part in zip(columns, parts, strict=True)])
            for columns in ([s.at for s in signals], [s.value for s in signals], [s.known for s in signals])
        )
        which = np.repeat(np.arange(len(signals)), [len(s.at[part]) for s, part in zip(signals, parts, strict=True)])
        order, hands = np.argsort(at, kind="stable"), ends
        yield at[order], which[order], values[order], known[order]
