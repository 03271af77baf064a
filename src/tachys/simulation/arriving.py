"""When units and sources happen next: the agenda of what comes from outside the core, and the releases of sources."""

# ruff: noqa: F403, F405
from __future__ import annotations

from tachys.compiled import kernel
from tachys.simulation.draws import draw_exponential, draw_uniform
from tachys.simulation.layout import *
from tachys.simulation.layout import Ints


@kernel()
def set_next(m: Ints, item: int, time: int) -> None:
    """Note when an item happens next, and keep the earliest of all, and of those that come together the first."""
    m[m[NEXT] + item] = time
    block = item // BLOCK
    first = m[NEXT] + block * BLOCK
    earliest, place = m[first], first
    for other in range(first + 1, first + BLOCK):
        if m[other] < earliest:
            earliest, place = m[other], other
    if m[N_BLOCKS] > 1:
        m[m[BLOCKS] + 2 * block] = earliest
        m[m[BLOCKS] + 2 * block + 1] = place
        for other in range(m[BLOCKS], m[BLOCKS] + 2 * m[N_BLOCKS], 2):
            if m[other] < earliest or (m[other] == earliest and m[other + 1] < place):
                earliest, place = m[other], m[other + 1]
    m[EARLIEST] = earliest
    m[EARLIEST_ITEM] = place - m[NEXT]


@kernel()
def next_release(m: Ints, source: int) -> int:
    """The nominal instant of the next release, and move on to the one after it."""
    base = m[source + S_BASE]
    over = m[source + S_OVER] + m[source + S_REST]
    later = base + m[source + S_WHOLE]
    if over >= m[source + S_DEN]:
        over -= m[source + S_DEN]
        later += 1
    m[source + S_BASE] = later
    m[source + S_OVER] = over
    return base


@kernel()
def next_late_release(m: Ints, source: int, first_time: bool) -> int:
    """The next instant of a source with jitter: later releases can come before earlier ones, so some are held."""
    room, held, jitter = m[source + S_ROOM], m[source + S_HELD], m[source + S_JITTER]
    if not first_time and held > 0:  # what has come leaves the room
        held -= 1
        for place in range(room, room + held):
            m[place] = m[place + 1]
    while held == 0 or m[source + S_BASE] <= m[room]:  # every release that could come before the earliest known
        late = 0
        if m[JITTER] == DRAWN_JITTER:
            late = draw_uniform(m, 0, jitter)
        elif m[source + S_LEFT] == 0:
            late = jitter
        m[source + S_LEFT] += 1
        time = next_release(m, source) + late
        place = room + held
        while place > room and m[place - 1] > time:
            m[place] = m[place - 1]
            place -= 1
        m[place] = time
        held += 1
    m[source + S_HELD] = held
    return m[room]


@kernel()
def comes_too_soon(m: Ints, number: int) -> bool:
    """Whether a source that keeps apart from others has to wait: it comes as soon as it may, first come first."""
    source, now = m[SOURCES] + number * SOURCE_SIZE, m[NOW]
    apart = m[source + S_APART]
    if m[source + S_WANTED] < 0:
        m[source + S_WANTED] = now
    later = m[apart + K_LAST] + m[apart + K_GAP]
    if now >= later:
        for address in range(m[apart + K_MEMBERS], m[apart + K_MEMBERS_END]):
            other = m[SOURCES] + m[address] * SOURCE_SIZE
            if m[m[NEXT] + m[N_UNITS] + m[address]] <= now and 0 <= m[other + S_WANTED] < m[source + S_WANTED]:
                later = now + m[apart + K_GAP]
    if now < later:
        set_next(m, m[N_UNITS] + number, later)
        return True
    m[apart + K_LAST] = now
    m[source + S_BEGAN] += now - m[source + S_WANTED]  # what follows it in a burst, and the next one, come later too
    m[source + S_WANTED] = -1
    return False


@kernel()
def next_event(m: Ints, number: int, first_time: bool) -> int:
    """When a source comes next, after it has come now, or for the first time."""
    source, now = m[SOURCES] + number * SOURCE_SIZE, m[NOW]
    kind = m[source + S_KIND]
    if kind == PERIODIC:
        if m[source + S_JITTER] == 0 or m[JITTER] == NO_JITTER:
            return next_release(m, source)
        return next_late_release(m, source, first_time)
    if first_time:
        return m[source + S_BASE]
    extra = m[source + S_EXTRA] if m[ARRIVALS] == MEAN else 0
    if m[source + S_COUNT] <= 1:
        return now + m[source + S_GAP] + (draw_exponential(m, extra) if extra else 0)
    m[source + S_LEFT] += 1
    if m[source + S_LEFT] < m[source + S_COUNT]:
        return now + m[source + S_GAP]
    m[source + S_LEFT] = 0
    if kind == BURST:  # counted from the beginning of the burst
        now = m[source + S_BEGAN]
    later = now + m[source + S_PAUSE] + (draw_exponential(m, extra) if extra else 0)
    m[source + S_BEGAN] = later
    return later
