"""Buffers in the engine: items go in, are taken and copied, and leave; when a buffer asks. What is raised, the kernel
raises."""

# ruff: noqa: F403, F405
from __future__ import annotations

from tachys.compiled import kernel
from tachys.simulation.arriving import set_next
from tachys.simulation.counting import observe, write
from tachys.simulation.draws import draw_cost
from tachys.simulation.layout import *
from tachys.simulation.layout import Ints


@kernel()
def spill(m: Ints, log: Ints, number: int) -> int:
    """One more is about to be put into a buffer: where that is full, one is lost. The event of that; -1: none is."""
    buffer = m[BUFFERS] + number * BUFFER_SIZE
    if m[buffer + Q_HELD] != m[buffer + Q_DEPTH]:
        return -1
    m[buffer + Q_LOST] += 1
    if m[buffer + Q_OVERWRITES]:
        write(m, log, ITEM_OVER, number, drop(m, buffer))
        if m[buffer + Q_INSIDE] > 0:
            m[buffer + Q_INSIDE] -= 1
    else:
        write(m, log, ITEM_LOST, number, m[NOW])
    return m[buffer + Q_SPILLS]


@kernel()
def put(m: Ints, log: Ints, number: int) -> int:
    """Put one into a buffer where there is room; the event that follows at once, -1 where none does."""
    buffer, now = m[BUFFERS] + number * BUFFER_SIZE, m[NOW]
    if m[buffer + Q_QUIET_MOST] >= 0:
        set_next(
            m, m[N_UNITS] + m[N_SOURCES] + number,
            now + draw_cost(m, m[buffer + Q_QUIET_LEAST], m[buffer + Q_QUIET_MOST]),
        )  # fmt: skip
    held = m[buffer + Q_HELD]
    if held == m[buffer + Q_DEPTH]:
        return -1
    place = m[buffer + Q_HEAD] + held
    if place >= m[buffer + Q_DEPTH]:
        place -= m[buffer + Q_DEPTH]
    m[m[buffer + Q_ROOM] + place] = now
    m[buffer + Q_HELD] = held + 1
    m[buffer + Q_COUNT] += 1
    write(m, log, ITEM_IN, number, now)
    unit = m[buffer + Q_UNIT]
    if unit >= 0 and m[m[NEXT] + unit] == NEVER:
        take_up(m, log, unit, number)
        return m[N_SOURCES] + 2 * unit
    m[buffer + Q_DEEPEST] = max(m[buffer + Q_DEEPEST], held + 1)
    return ask(m, log, number)


@kernel()
def asks(m: Ints, buffer: int) -> bool:
    """Whether a buffer asks for service."""
    held, each = m[buffer + Q_HELD], m[buffer + Q_EACH]
    if held >= m[buffer + Q_THRESHOLD] or m[buffer + Q_OVER] != 0:
        return True
    count = m[buffer + Q_COUNT]
    return each > 0 and count // each != (count - held + m[buffer + Q_INSIDE]) // each


@kernel()
def ask(m: Ints, log: Ints, number: int) -> int:
    """The request of a buffer, if it asks now and none waits or is served; -1: none is raised."""
    buffer = m[BUFFERS] + number * BUFFER_SIZE
    if m[buffer + Q_STATE] != RESTS or not asks(m, buffer) or room_beyond(m, buffer) == 0:
        return -1
    m[buffer + Q_STATE] = ASKS
    write(m, log, ASKED, number, m[NOW])
    return m[N_SOURCES] + 2 * (m[N_UNITS] + m[N_LINES] + m[N_STEPS]) + number


@kernel()
def room_beyond(m: Ints, buffer: int) -> int:
    """How many more can be moved on out of a buffer."""
    if m[buffer + Q_INTO] < 0:
        return NEVER
    into = m[BUFFERS] + m[buffer + Q_INTO] * BUFFER_SIZE
    return m[into + Q_DEPTH] - m[into + Q_HELD]


@kernel()
def drop(m: Ints, buffer: int) -> int:
    """The oldest is no longer in a buffer; when it was put."""
    head = m[buffer + Q_HEAD]
    m[buffer + Q_HEAD] = head + 1 if head + 1 < m[buffer + Q_DEPTH] else 0
    m[buffer + Q_HELD] -= 1
    return m[m[buffer + Q_ROOM] + head]


@kernel()
def leave(m: Ints, log: Ints, number: int) -> None:
    """The oldest leaves a buffer."""
    buffer = m[BUFFERS] + number * BUFFER_SIZE
    was_put = drop(m, buffer)
    observe(m, m[buffer + Q_STATS], m[NOW] - was_put, 1)
    if m[buffer + Q_HELD] == 0:
        m[buffer + Q_OVER] = 0
    write(m, log, ITEM_OUT, number, was_put)


@kernel()
def take_up(m: Ints, log: Ints, number: int, buffer: int) -> None:
    """A unit takes the oldest of the buffer that it drains, and works for it."""
    unit, now = m[UNITS] + number * UNIT_SIZE, m[NOW]
    leave(m, log, buffer)
    if m[m[NEXT] + number] == NEVER:
        m[unit + U_SINCE] = now
    m[unit + U_CAUSE] = now
    set_next(m, number, now + draw_cost(m, m[unit + U_LEAST], m[unit + U_MOST]))
    write(m, log, UNIT_START, number, now)


@kernel()
def take_in(m: Ints, log: Ints, number: int, most: int) -> None:
    """Who drains a buffer takes what is in, ``most`` at most."""
    buffer = m[BUFFERS] + number * BUFFER_SIZE
    many = min(m[buffer + Q_HELD], most, room_beyond(m, buffer))
    m[buffer + Q_LEFT] = m[buffer + Q_TOOK] = m[buffer + Q_INSIDE] = many
    m[buffer + Q_COPIES] = 0
    m[buffer + Q_OVER] = m[buffer + Q_OVER] != 0 and m[buffer + Q_HELD] > many
    if m[RECORD]:
        for place in range(m[buffer + Q_HEAD], m[buffer + Q_HEAD] + many):
            write(m, log, ITEM_TAKEN, number, m[m[buffer + Q_ROOM] + place % m[buffer + Q_DEPTH]])


@kernel()
def copy_next(m: Ints, log: Ints, number: int) -> bool:
    """One that was being copied leaves; whether another is to be copied now."""
    buffer = m[BUFFERS] + number * BUFFER_SIZE
    if m[buffer + Q_COPIES] and m[buffer + Q_INSIDE] > m[buffer + Q_LEFT]:  # else it was overwritten meanwhile
        m[buffer + Q_INSIDE] -= 1
        leave(m, log, number)
    if m[buffer + Q_LEFT] == 0 and m[buffer + Q_UNTIL]:
        took = m[buffer + Q_TOOK]
        take_in(m, log, number, m[buffer + Q_DEPTH])
        m[buffer + Q_TOOK] += took
    m[buffer + Q_COPIES] = m[buffer + Q_LEFT] > 0
    if m[buffer + Q_LEFT] == 0:
        return False
    m[buffer + Q_LEFT] -= 1
    return True
