"""Edges and pulses of a signal. What was already going on when the capture began has no edge and is not invented."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tachys.capture.statistics import moves
from tachys.capture.table import Instants, Signal


@dataclass(frozen=True, slots=True)
class Pulses:
    """Times of high level, in order: pulse k lasts from ``begin[k]`` to ``end[k]`` ps.

    ``open_end`` is the begin of a pulse that still lasts as the capture ends, and None if there is none.
    """

    begin: Instants
    end: Instants
    open_end: int | None


def edges(signal: Signal, kind: str) -> Instants:
    """The instants in ps of "rise", "fall" or "both" (also "toggle") edges; from or to x and z is no edge."""
    return np.concatenate([np.zeros(0, np.int64), *moves(signal, kind)])


def pulses(signal: Signal) -> Pulses:
    """The high times that begin within the capture."""
    rises, falls = edges(signal, "rise"), edges(signal, "fall")
    if len(rises) == 0:
        return Pulses(rises, rises, None)
    falls = falls[falls > rises[0]]
    count = min(len(rises), len(falls))
    ends = falls[:count]
    if not np.all(ends > rises[:count]) or not np.all(rises[1 : count + 1] > ends[: len(rises[1 : count + 1])]):
        # x or z in between swallowed an edge: keep the pulses whose two edges are both known
        place = np.searchsorted(falls, rises, side="right")
        following = np.append(rises[1:], np.iinfo(np.int64).max)
        good = (place < len(falls)) & (falls[np.minimum(place, len(falls) - 1)] <= following)
        return Pulses(rises[good], falls[place[good]], None)
    return Pulses(rises[:count], ends, int(rises[count]) if len(rises) > count else None)
