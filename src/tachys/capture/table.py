"""A capture in memory: for every signal the instants at which it changes and the value it takes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import cast

import numpy as np
import numpy.typing as npt

Instants = npt.NDArray[np.int64]
UNKNOWN = -1  # the value of x and z


@dataclass(frozen=True, slots=True)
class Signal:
    """One line or bus. ``at`` in ps, ascending; ``value`` holds from there on, :data:`UNKNOWN` for x and z.

    Neighbouring values differ: what a file repeats is dropped.
    """

    name: str
    width: int
    at: Instants
    value: Instants


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


def grid_of(instants: Iterable[Instants], tick: int) -> int:
    """The grid on which all instants lie: the greatest common divisor of their distances, at least ``tick`` ps.

    Exports often count in finer ticks than they sample. With fewer than 16 instants nothing is concluded.
    """
    columns = [column for column in instants if len(column)]
    if sum(map(len, columns)) < 16:
        return tick
    first = int(columns[0][0])
    for column in columns:  # mostly a few instants tell that it is no coarser than a tick
        if int(np.gcd.reduce(np.diff(column[:2000]))) == tick:
            return tick
    common = np.gcd.reduce([int(np.gcd.reduce(column - first)) for column in columns])
    return max(int(cast(int, common)), tick)
