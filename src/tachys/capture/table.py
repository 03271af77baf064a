"""A capture in memory: for every signal the instants at which it changes and the value it takes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Instants = npt.NDArray[np.int64]
UNKNOWN = -1  # the value of x and z
BLOCK = 1 << 19


@dataclass(frozen=True, slots=True)
class Signal:
    """One line or bus. ``at`` in ps, ascending; ``value`` holds from there on, :data:`UNKNOWN` for x and z.

    Neighbouring values differ: what a file repeats is dropped. ``real``: the values are doubles, kept bit by bit.
    Large columns are mapped from a temporary file; go through them by :func:`blocks`.
    """

    name: str
    width: int
    at: Instants
    value: Instants
    real: bool = False

    @property
    def reals(self) -> npt.NDArray[np.float64]:
        """The values of a real signal, not a number where it is unknown."""
        return self.value.view(np.float64)


@dataclass(frozen=True, slots=True)
class Capture:
    """A whole capture, from ``begin`` to ``end`` ps of the analyser's clock.

    ``resolution`` is the grid of its instants in ps: no edge is known better than that.
    """

    file: str
    signals: dict[str, Signal]
    begin: int
    end: int
    resolution: int
    remarks: tuple[str, ...] = ()

    @property
    def length(self) -> int:
        """How long the capture is, in ps."""
        return self.end - self.begin


def make_signal(name: str, width: int, at: Iterable[int], value: Iterable[int]) -> Signal:
    """A signal from its changes in order, repeated values dropped."""
    instants, values = np.fromiter(at, np.int64), np.fromiter(value, np.int64)
    keep = np.ones(len(values), bool)
    keep[1:] = values[1:] != values[:-1]
    return Signal(name, width, instants[keep], values[keep])


def bits_of(value: float) -> int:
    """A double as the signed integer of the same 64 bits; what is not a number is :data:`UNKNOWN`."""
    return UNKNOWN if value != value else int(np.float64(value).view(np.int64))


def blocks(count: int, size: int = BLOCK) -> Iterator[tuple[int, int]]:
    """[first, last) of the blocks by which a long column is gone through."""
    for first in range(0, count, size):
        yield first, min(first + size, count)


def grid_of(instants: Iterable[Instants], tick: int) -> int:
    """The grid on which all instants lie: the greatest common divisor of their distances, at least ``tick`` ps.

    Exports often count in finer ticks than they sample. With fewer than 16 instants nothing is concluded.
    """
    columns = [column for column in instants if len(column)]
    if sum(map(len, columns)) < 16:
        return tick
    start, common = int(columns[0][0]), 0
    for column in columns:
        for first, last in blocks(len(column), 2000 if common == 0 else BLOCK):
            common = int(np.gcd(common, np.gcd.reduce(column[first:last] - start)))
            if common == tick:  # mostly a few instants tell that it is no coarser than a tick
                return tick
    return max(common, tick)


def merged(capture: Capture) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(instants, numbers of signals, values) of all changes, in order of time."""
    signals = list(capture.signals.values())
    at = np.concatenate([np.zeros(0, np.int64), *(signal.at for signal in signals)])
    which = np.concatenate([np.zeros(0, np.int64), *(np.full(len(s.at), n) for n, s in enumerate(signals))])
    values = np.concatenate([np.zeros(0, np.int64), *(signal.value for signal in signals)])
    order = np.argsort(at, kind="stable")
    return at[order], which[order], values[order]
