"""Pins and counters in the engine: what events do to them."""

# ruff: noqa: F403, F405
from __future__ import annotations

from tachys.compiled import kernel
from tachys.simulation.counting import write
from tachys.simulation.layout import *
from tachys.simulation.layout import Ints


@kernel()
def watch(m: Ints, log: Ints, act: int) -> None:
    """An event does something to a pin or a counter."""
    does, to = m[act + W_DOES], m[act + W_TO]
    if does == COUNT_ONE:
        settle(m, to, m[NOW])
        m[to + C_COUNT] += 1
    elif does == LOOK:
        advance(m, to)
        m[to + C_LOOK] = m[NOW]
    elif does == PULSE:
        until = m[NOW] + m[act + W_LENGTH]
        pulse(m, to, until)
        write(m, log, PIN_PULSED, (to - m[PINS]) // PIN_SIZE, m[to + O_UNTIL])
    else:
        level = 1 - m[to + O_LEVEL] if does == TOGGLE else does
        if level != m[to + O_LEVEL]:
            move(m, to, level)
            write(m, log, PIN_MOVED, (to - m[PINS]) // PIN_SIZE, level)


@kernel()
def move(m: Ints, pin: int, level: int) -> None:
    """A pin goes to another level. Only one that differs from that before the instant is an edge."""
    now = m[NOW]
    if m[pin + O_AT] != now:
        m[pin + O_AT], m[pin + O_BEFORE] = now, m[pin + O_LEVEL]
    if level:
        m[pin + O_SINCE] = now
    else:
        m[pin + O_HIGH] += now - m[pin + O_SINCE]
    m[pin + O_LEVEL] = level
    m[pin + O_EDGES] += 1 if level != m[pin + O_BEFORE] else -1


@kernel()
def pulse(m: Ints, pin: int, until: int) -> None:
    """A pin leaves its rest, and comes back later; one that has not yet, or does now, stays away for longer."""
    now, before = m[NOW], m[pin + O_UNTIL]
    if now > before:
        m[pin + O_EDGES] += 2
        before = now
    if until > before:
        m[pin + O_HIGH] += until - before
        before = until
    m[pin + O_UNTIL] = before


@kernel()
def advance(m: Ints, counter: int) -> None:
    """Time has come up to now: what the look before showed is known, and a clock has counted on."""
    settle(m, counter, m[NOW])
    bottom, since = m[counter + C_DEN], m[counter + C_SINCE]
    if bottom and since != NEVER:
        passed = m[NOW] - since
        rest = m[counter + C_REST] + passed % bottom * m[counter + C_NUM]
        m[counter + C_COUNT] += passed // bottom * m[counter + C_NUM] + rest // bottom
        m[counter + C_REST] = rest % bottom
        m[counter + C_SINCE] = m[NOW]


@kernel()
def settle(m: Ints, counter: int, now: int) -> None:
    """Time has moved on since a counter was looked at: what that look showed, and how much came since the one before.

    What is counted before the first count is not told of: of an event nobody knows when that comes.
    """
    if m[counter + C_LOOK] < 0 or m[counter + C_LOOK] == now:
        return
    count, seen = m[counter + C_COUNT], m[counter + C_SEEN]
    m[counter + C_LOOK] = -1
    m[counter + C_SEEN] = count
    if count == 0 and not m[counter + C_DEN]:
        return
    m[counter + C_LOOKS] += 1
    m[counter + C_TOPS] += count % m[counter + C_STATES] == m[counter + C_STATES] - 1
    if seen > 0 or (seen == 0 and m[counter + C_DEN]):
        m[counter + C_LEAST] = min(m[counter + C_LEAST], count - seen)
        m[counter + C_MOST] = max(m[counter + C_MOST], count - seen)
        m[counter + C_MISSED] += (count - seen) // m[counter + C_STATES]
