"""What always holds in the engine's memory between two slices; the tests look after each of them.

A memory that breaks one of these is a fault of the engine, whatever the model.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from tachys.errors import InternalError
from tachys.simulation import layout as at


def check_invariants(memory: at.Ints) -> None:
    """Look at every invariant.

    Raises:
        InternalError: one is broken; all that are, are told.
    """
    wrong = list(_broken(memory))
    if wrong:
        raise InternalError("; ".join(wrong))


def _table(m: at.Ints, place: int, many: int, size: int) -> at.Ints:
    """The records of a kind, a row each."""
    first = int(m[place])
    table: at.Ints = m[first : first + int(m[many]) * size].reshape(-1, size)
    return table


def _broken(m: at.Ints) -> Iterator[str]:
    items, now = m[m[at.NEXT] : m[at.NEXT] + m[at.N_BLOCKS] * at.BLOCK], int(m[at.NOW])
    if m[at.EARLIEST] != items.min():
        yield f"the earliest item is {items.min()}, noted is {m[at.EARLIEST]}"
    if m[at.EARLIEST] != at.NEVER and int(np.argmin(items)) != m[at.EARLIEST_ITEM]:
        yield "of items that come together the first is not noted"
    if m[at.LOGGED] > m[at.LOG_END]:
        yield "the log has run over its end"
    yield from _lines(m)
    units = _table(m, at.UNITS, at.N_UNITS, at.UNIT_SIZE)
    if len(units) and (units[:, at.U_HELD] > units[:, at.U_DEPTH]).any():
        yield "a unit holds more starts than its depth"
    idle = items[: len(units)] == at.NEVER
    if len(units) and (idle & (units[:, at.U_HELD] > 0)).any():
        yield "a unit rests although starts wait"
    flags = _table(m, at.FLAGS, at.N_FLAGS, at.FLAG_SIZE)
    if len(flags) and (flags[:, at.F_SET] > now + 1).any():
        yield "a flag was set in the future"
    buffers = _table(m, at.BUFFERS, at.N_BUFFERS, at.BUFFER_SIZE)
    if len(buffers) and (buffers[:, at.Q_HELD] > buffers[:, at.Q_DEPTH]).any():
        yield "a buffer holds more than its depth"
    if len(buffers) and (buffers[:, at.Q_INSIDE] > buffers[:, at.Q_HELD]).any():
        yield "more is copied out of a buffer than is in"
    depth, size = int(m[at.DEPTH]), int(m[at.FRAME_SIZE])
    if m[at.FRAME] != m[at.FRAMES] + depth * size:
        yield "the frame on top is not where the depth says"
    yield from _frames(m, depth, size)


def _lines(m: at.Ints) -> Iterator[str]:
    lines, rows = (
        _table(m, *which) for which in ((at.LINES, at.N_LINES, at.LINE_SIZE), (at.ROWS, at.N_ROWS, at.ROW_SIZE))
    )
    if not len(lines):
        return
    held = lines[:, at.L_HELD]
    if (held > lines[:, at.L_SIZE]).any() or (held < 0).any():
        yield "a line holds more marks than it has room for"
    waits = np.bincount(rows[:, at.R_LINE], rows[:, at.R_WAITS], len(lines)).astype(np.int64)
    if (waits != held).any():
        yield "the marks of a line are not those of its inputs"
    if (rows[:, at.R_WAITS] > rows[:, at.R_PENDING]).any():
        yield "an input waits more often than the hardware remembers"
    words = m[m[at.WAITING] :][: len(lines) // at.LINES_A_WORD + 1]
    noted = (words[:, None] >> np.arange(at.LINES_A_WORD) & 1).ravel()[: len(lines) + 1]
    if (noted != np.append(held > 0, True)).any():
        yield "not all lines that wait are noted, or others are"
    pending = np.flatnonzero(held)
    best = int(pending[0]) if len(pending) else len(lines)
    if best != m[at.BEST]:
        yield f"the best pending line is {best}, noted is {m[at.BEST]}"


def _frames(m: at.Ints, depth: int, size: int) -> Iterator[str]:
    """The stack: each body more urgent than the one below, none beyond its cost."""
    frames = m[m[at.FRAMES] : m[at.FRAMES] + (depth + 1) * size].reshape(-1, size)
    if (frames[:, at.B_DONE] > frames[:, at.B_COST]).any():
        yield "a body has done more than its cost"
    lines = _table(m, at.LINES, at.N_LINES, at.LINE_SIZE)
    urgency = lines[frames[1:, at.B_LINE], at.L_URGENCY]
    if (np.diff(urgency) >= 0).any():
        yield "a body stands on one that is not less urgent"
