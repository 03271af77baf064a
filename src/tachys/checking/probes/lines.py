"""What a captured line says once it is read as active or not: edges, stretches of activity, and what is no pulse.

A stretch whose beginning or end the capture does not show is kept apart and not measured.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from tachys.capture.table import Capture, Instants, Signal
from tachys.model.nodes import Probe

Levels = npt.NDArray[np.int8]
_FEW = 50  # one in so many: what is that rare and that short is taken for a glitch
_WIDE = 8  # samples: how wide all others must be for that


class Bodies(Struct, frozen=True):
    """Stretches from start[k] to end[k] ps, in order; the first may have begun before the capture, the last go on.

    Of one that is both, so that its line never moves, there is none, and it is cut at both ends.
    """

    start: Instants
    end: Instants
    cut_begin: bool = False
    cut_end: bool = False

    @property
    def always(self) -> bool:
        """Whether its line never moves, and is active."""
        return self.cut_begin and not len(self.start)

    @property
    def whole(self) -> slice:
        """The places of those whose two ends were seen."""
        return slice(int(self.cut_begin), len(self.start) - int(self.cut_end))

    @property
    def begun(self) -> Instants:
        """When those began whose beginning was seen."""
        return self.start[int(self.cut_begin) :]

    @property
    def ended(self) -> Instants:
        """When those ended whose end was seen."""
        return self.end[: len(self.end) - int(self.cut_end)]


class LineReading(Struct, frozen=True):
    """A line as active (1), not active (0) or unknown (-1) from each instant on; ``glitches`` were taken out."""

    at: Instants
    level: Levels
    glitches: int = 0


def line_of(signal: Signal, probe: Probe, capture: Capture) -> LineReading:
    """A signal as its probe reads it."""
    active = (signal.value != 0) ^ probe.active_low
    line = _deduped(LineReading(signal.at, np.where(signal.known, active, -1).astype(np.int8)))
    if probe.shortest:
        return _without(line, np.diff(line.at) < probe.shortest)
    narrow = _glitches(line, capture.resolution, 1)
    if probe.edge is not None:  # between two bodies that follow each other by a chain, a line may well fall briefly
        narrow |= _glitches(line, capture.resolution, 0)
    return _without(line, narrow)


def _deduped(line: LineReading) -> LineReading:
    keep = np.append(True, line.level[1:] != line.level[:-1])[: len(line.level)]
    return line if keep.all() else LineReading(line.at[keep], line.level[keep], line.glitches)


def _glitches(line: LineReading, resolution: int, level: int) -> npt.NDArray[np.bool_]:
    """Stretches of one sample at a level are no pulses where they are rare and all others at it are far wider."""
    lengths = np.diff(line.at)
    own = line.level[:-1] == level
    own[:1] = False  # its beginning was not seen
    narrow: npt.NDArray[np.bool_] = own & (lengths <= resolution)
    count = int(np.count_nonzero(narrow))
    if count:
        others = lengths[own & ~narrow]
        if count * _FEW <= len(others) and int(others.min()) >= _WIDE * resolution:
            return narrow
    return np.zeros(len(lengths), np.bool_)


def _without(line: LineReading, short: npt.NDArray[np.bool_]) -> LineReading:
    """The line without some of its stretches: what they interrupt goes on behind them."""
    if not short.any():
        return line
    keep = np.append(~short, True)[: len(line.at)]
    keep[:1] = True
    gone = int((~keep).sum())
    return _deduped(LineReading(line.at[keep], line.level[keep], gone)) if gone else line


def edges_of(line: LineReading, kind: str) -> Instants:
    """The instants of "rise", "fall", "both" ("toggle") edges, or at which a "pulse" away from rest begins."""
    before, after, at = line.level[:-1], line.level[1:], line.at[1:]
    known = (before >= 0) & (after >= 0)
    if kind == "pulse":
        lengths = np.diff(line.at)
        high = int(lengths[line.level[:-1] == 1].sum())
        kind = "rise" if 2 * high <= int(lengths.sum()) else "fall"
    if kind == "rise":
        known &= after == 1
    elif kind == "fall":
        known &= after == 0
    found: Instants = at[known]
    return found


def stretches(line: LineReading, capture: Capture) -> Bodies:
    """When the line is active; stretches next to where it is unknown are left out."""
    level = line.level
    if not len(level):
        return Bodies(line.at, line.at)
    active = level == 1
    before = np.append(np.int8(-2), level[:-1])  # -2: the capture begins
    after = np.append(level[1:], np.int8(-2))
    ends = np.append(line.at[1:], np.int64(capture.end))
    good = active & (before != -1) & (after != -1) & ((before != -2) | (after != -2))
    return Bodies(
        np.maximum(line.at[good], capture.begin),
        ends[good],
        cut_begin=bool(active[0]) and bool(good[0] or len(line.at) == 1),
        cut_end=bool(active[-1]) and bool(good[-1] or len(line.at) == 1),
    )
