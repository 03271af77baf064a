"""The engine: plays a plan, instant by instant. The whole law of the machine stands in this file.

Within one instant: (1) all units whose time is up come to rest, or take up what waits for them, and then each raises
its end; (2) sources, then buffers whose quiet time is over; in the order written, each with all it raises; (3) what the
core has finished; (4) acceptance; (5) the next act of the running context. See ``docs/model.md`` for what each means.

Written in the part of Python that Numba compiles, on one flat array ``m`` (see ``layout``); ``log`` takes records.
Uncompiled it does the same.
"""

# ruff: noqa: F403, F405, SIM102, SIM109
from __future__ import annotations

from tachys.compiled import bare, bit_length, kernel
from tachys.simulation.arriving import comes_too_soon, next_event, set_next
from tachys.simulation.counting import observe, write
from tachys.simulation.draws import draw31, draw_body, draw_cost
from tachys.simulation.layout import *
from tachys.simulation.layout import Ints
from tachys.simulation.storing import ask, asks, copy_next, put, spill, take_in, take_up
from tachys.simulation.watching import advance, watch

MOST_ACTS = 1_000_000  # at one instant: more is a chain that takes no time


# --- events and what they raise --------------------------------------------------------------------------------------


@kernel()
def raise_event(m: Ints, log: Ints, event: int) -> None:
    """An event happens now: mark the lines and start the units that stand on it, and on the starts of those.

    Then the flags that hardware sets with it, and what it puts into buffers: a unit that drains one takes it at once,
    or the buffer may ask for service.
    """
    place = m[RAISES_AT] + event
    if m[place] == m[place + 1]:
        return
    chain = m[CHAIN]
    m[chain] = event
    at, held = chain, chain + 1
    while at < held:
        place = m[RAISES_AT] + m[at]
        at += 1
        for address in range(m[place], m[place + 1]):
            target = m[address]
            if target >= FIRST_COUNT:
                number = (target - FIRST_COUNT) // 2
                if target >= FIRST_WATCH:
                    watch(m, log, target - FIRST_WATCH)
                elif target % 2:
                    cancel(m, log, number)
                elif count(m, log, number):
                    if held + 1 >= chain + m[CHAIN_SIZE]:
                        m[FAULT] = NO_ROOM
                        return
                    m[held] = m[N_SOURCES] + 2 * number + 1
                    m[held + 1] = m[N_SOURCES] + 2 * number
                    held += 1 + m[m[UNITS] + number * UNIT_SIZE + U_REPEATS]
            elif target >= FIRST_FEED:
                number = (target - FIRST_FEED) // ITEMS
                for _ in range(target % ITEMS):
                    for follows in (spill(m, log, number), put(m, log, number)):
                        if follows >= 0:
                            if held == chain + m[CHAIN_SIZE]:
                                m[FAULT] = NO_ROOM
                                return
                            m[held] = follows
                            held += 1
            elif target >= FIRST_FLAG:
                set_flag(m, log, target - FIRST_FLAG)
            elif target >= 0:
                pend(m, log, target)
            elif start_unit(m, log, -1 - target):
                if held == chain + m[CHAIN_SIZE]:
                    m[FAULT] = NO_ROOM
                    return
                m[held] = m[N_SOURCES] + 2 * (-1 - target)
                held += 1


@kernel()
def set_flag(m: Ints, log: Ints, number: int) -> None:
    """Set a flag; where it is set already, that is overwritten."""
    flag = m[FLAGS] + number * FLAG_SIZE
    if m[flag + F_SET]:
        m[flag + F_OVER] += 1
        write(m, log, FLAG_OVER, number, m[flag + F_SET] - 1)
    else:
        m[flag + F_SET] = m[NOW] + 1
        write(m, log, FLAG_SET, number, m[NOW])


@kernel()
def pend(m: Ints, log: Ints, number: int) -> None:
    """Set the pending mark of a row; lost if as many wait as the hardware remembers."""
    row = m[ROWS] + number * ROW_SIZE
    if m[row + R_WAITS] >= m[row + R_PENDING]:
        m[row + R_LOST] += 1
        write(m, log, LOST, number, m[NOW])
        return
    line = m[LINES] + m[row + R_LINE] * LINE_SIZE
    held = m[line + L_HELD]
    place = m[line + L_HEAD] + held
    if place >= m[line + L_SIZE]:
        place -= m[line + L_SIZE]
    place = m[line + L_ROOM] + 2 * place
    m[place] = m[NOW]
    m[place + 1] = number
    m[line + L_HELD] = held + 1
    m[row + R_WAITS] += 1
    number = m[row + R_LINE]
    m[m[WAITING] + number // LINES_A_WORD] |= 1 << number % LINES_A_WORD
    m[BEST] = min(m[BEST], number)


@kernel()
def start_unit(m: Ints, log: Ints, number: int) -> bool:
    """Start an operation of a unit, or let it look into its buffer; whether one begins now."""
    unit, now = m[UNITS] + number * UNIT_SIZE, m[NOW]
    if m[unit + U_ASKED]:
        if m[m[NEXT] + number] != NEVER:
            return False
        if m[m[BUFFERS] + m[unit + U_DRAINS] * BUFFER_SIZE + Q_HELD] == 0:
            m[unit + U_LOST] += 1
            write(m, log, UNIT_LOST, number, now)
            return False
        take_up(m, log, number, m[unit + U_DRAINS])
        return True
    if m[m[NEXT] + number] != NEVER and not m[unit + U_SILENT]:
        busy = m[unit + U_BUSY]
        if busy == QUEUE and m[unit + U_HELD] < m[unit + U_DEPTH]:
            m[m[unit + U_ROOM] + (m[unit + U_HEAD] + m[unit + U_HELD]) % m[unit + U_DEPTH]] = now
            m[unit + U_HELD] += 1
            return False
        m[unit + U_LOST] += 1
        write(m, log, UNIT_LOST, number, m[unit + U_CAUSE] if busy == RESTART else now)
        if busy != RESTART:
            return False
    if m[m[NEXT] + number] == NEVER:
        m[unit + U_SINCE] = now
    m[unit + U_CAUSE] = now
    m[unit + U_LEFT] = m[unit + U_COUNTS]
    m[unit + U_SILENT] = m[unit + U_ANSWERS] < ALWAYS and draw31(m) >= m[unit + U_ANSWERS]
    if m[unit + U_COUNTS] or m[unit + U_SILENT]:
        set_next(m, number, COUNTING)
    else:
        set_next(m, number, now + draw_cost(m, m[unit + U_LEAST], m[unit + U_MOST]))
        if m[STOPPED]:
            stand_still(m, number, number)
    write(m, log, UNIT_START, number, now)
    if m[unit + U_SILENT]:
        m[unit + U_GONE] += 1
        write(m, log, UNIT_SILENT, number, now)
    return True


@kernel()
def count(m: Ints, log: Ints, number: int) -> bool:
    """A unit counts an event; whether it ends with it. One that repeats begins anew before that is raised."""
    unit, now = m[UNITS] + number * UNIT_SIZE, m[NOW]
    if m[m[NEXT] + number] == NEVER:
        return False
    m[unit + U_LEFT] -= 1
    if m[unit + U_LEFT]:
        return False
    cause = m[unit + U_CAUSE]
    observe(m, m[unit + U_STATS], now - cause, 1)
    m[unit + U_ENDS] += 1
    if m[unit + U_STEALS_MOST]:
        steal(m, unit)
    write(m, log, UNIT_END, number, cause)
    if m[unit + U_REPEATS]:
        m[unit + U_LEFT], m[unit + U_CAUSE] = m[unit + U_COUNTS], now
        write(m, log, UNIT_START, number, now)
    else:
        set_next(m, number, NEVER)
    return True


@kernel()
def cancel(m: Ints, log: Ints, number: int) -> None:
    """A unit that counts goes to rest without an end."""
    if m[m[NEXT] + number] != NEVER:
        set_next(m, number, NEVER)
        write(m, log, UNIT_OFF, number, m[m[UNITS] + number * UNIT_SIZE + U_CAUSE])


@kernel()
def be_quiet(m: Ints, log: Ints, number: int) -> None:
    """The quiet time of a buffer is over: it asks while something is in."""
    buffer = m[BUFFERS] + number * BUFFER_SIZE
    set_next(m, m[N_UNITS] + m[N_SOURCES] + number, NEVER)
    m[buffer + Q_OVER] = m[buffer + Q_OVER] != 0 or m[buffer + Q_HELD] > m[buffer + Q_INSIDE]
    event = ask(m, log, number)
    if event >= 0:
        raise_event(m, log, event)


@kernel()
def steal(m: Ints, unit: int) -> None:
    """An operation ends, and takes the bus: what burns CPU time, and has not ended by now, stands for so long."""
    frame = m[FRAME]
    if burns(m) and m[frame + B_DONE] < m[frame + B_COST] and (m[DEPTH] == 0 or m[frame + B_UNTIL] < 0):
        length = draw_cost(m, m[unit + U_STEALS_LEAST], m[unit + U_STEALS_MOST])
        m[frame + B_STANDS] += length
        m[unit + U_STOLEN] += length


@kernel()
def rest_unit(m: Ints, log: Ints, number: int) -> None:
    """The time of an operation is up: the unit rests, or takes up the next of its queue; its end is raised later."""
    unit, now = m[UNITS] + number * UNIT_SIZE, m[NOW]
    cause = m[unit + U_CAUSE]
    observe(m, m[unit + U_STATS], now - cause, 1)
    m[unit + U_ENDS] += 1
    if m[unit + U_STEALS_MOST]:
        steal(m, unit)
    write(m, log, UNIT_END, number, cause)
    begins = 0
    if m[unit + U_HELD] > 0:
        begins = 1
        m[unit + U_CAUSE] = m[m[unit + U_ROOM] + m[unit + U_HEAD]]
        m[unit + U_HEAD] = (m[unit + U_HEAD] + 1) % m[unit + U_DEPTH]
        m[unit + U_HELD] -= 1
        set_next(m, number, now + draw_cost(m, m[unit + U_LEAST], m[unit + U_MOST]))
        write(m, log, UNIT_START, number, m[unit + U_CAUSE])
    elif (
        m[unit + U_DRAINS] >= 0
        and not m[unit + U_ASKED]
        and m[m[BUFFERS] + m[unit + U_DRAINS] * BUFFER_SIZE + Q_HELD] > 0
    ):
        begins = 1
        take_up(m, log, number, m[unit + U_DRAINS])
    else:
        m[unit + U_WORKED] += now - m[unit + U_SINCE]
        set_next(m, number, NEVER)
    m[m[ENDED] + m[N_ENDED]] = 2 * number + begins
    m[N_ENDED] += 1


@kernel()
def make_room(m: Ints, log: Ints, number: int) -> None:
    """A unit has taken one out of its buffer: who waits for room there asks."""
    drained = m[m[UNITS] + number * UNIT_SIZE + U_DRAINS]
    if drained >= 0:
        behind = m[m[BUFFERS] + drained * BUFFER_SIZE + Q_BEHIND]
        event = ask(m, log, behind) if behind >= 0 else -1
        if event >= 0:
            raise_event(m, log, event)


# --- what comes from outside the core ------------------------------------------------------------------------------


@kernel()
def outside(m: Ints, log: Ints) -> bool:
    """(1) and (2) of an instant: units end, sources come, buffers are quiet; False where the log is full before."""
    now, units = m[NOW], m[N_UNITS]
    while m[EARLIEST] <= now and m[EARLIEST_ITEM] < units:
        rest_unit(m, log, m[EARLIEST_ITEM])
        if m[LOGGED] > m[LOG_FULL]:
            return False
    while m[AT_ENDED] < m[N_ENDED]:
        ended = m[m[ENDED] + m[AT_ENDED]]
        m[AT_ENDED] += 1
        event = m[N_SOURCES] + 2 * (ended // 2)
        raise_event(m, log, event + 1)
        if ended % 2:
            raise_event(m, log, event)
            make_room(m, log, ended // 2)
        if m[LOGGED] > m[LOG_FULL]:
            return False
    m[AT_ENDED] = m[N_ENDED] = 0
    while m[EARLIEST] <= now:
        source = m[EARLIEST_ITEM] - units
        if source >= m[N_SOURCES]:
            be_quiet(m, log, source - m[N_SOURCES])
        elif m[m[SOURCES] + source * SOURCE_SIZE + S_APART] and comes_too_soon(m, source):
            continue
        else:
            write(m, log, SOURCE, source, now)
            raise_event(m, log, source)
            set_next(m, units + source, next_event(m, source, False))
        if m[LOGGED] > m[LOG_FULL]:
            return False
    return True


# --- the core --------------------------------------------------------------------------------------------------------


@kernel()
def draw_guards(m: Ints, log: Ints, frame: int) -> None:
    """Where the guards of the body in this frame begin and end, in its CPU time."""
    place = m[frame + B_HOLDS]
    for guard in range(m[frame + B_GUARDS], m[frame + B_GUARDS_END], GUARD_SIZE):
        begin = draw_cost(m, m[guard + G_AT_LEAST], m[guard + G_AT_MOST])
        end = m[frame + B_COST]
        if m[guard + G_MOST] >= 0:
            end = min(end, begin + draw_cost(m, m[guard + G_LEAST], m[guard + G_MOST]))
        m[place] = begin
        m[place + 1] = end
        place += 2
        if end > begin:
            write(m, log, HOLD_FROM, m[guard + G_URGENCY], begin)
            write(m, log, HOLD_TO, m[guard + G_URGENCY], end)


@kernel()
def held_until(m: Ints, frame: int, urgency: int) -> int:
    """The CPU time of the body up to which a guard now holds lines of ``urgency`` off; -1: none does."""
    until, done, place = -1, m[frame + B_DONE], m[frame + B_HOLDS]
    for guard in range(m[frame + B_GUARDS], m[frame + B_GUARDS_END], GUARD_SIZE):
        if m[place] < done < m[place + 1] and m[guard + G_URGENCY] <= urgency:
            until = max(until, m[place + 1])
        place += 2
    return until


@kernel()
def acceptable(m: Ints) -> bool:
    """Whether the best pending line can be accepted over the running context."""
    best = m[BEST]
    if best >= m[N_LINES]:
        return False
    frame = m[FRAME]
    urgency = m[m[LINES] + best * LINE_SIZE + L_URGENCY]
    if m[DEPTH] > 0:
        if m[NESTING] == 0 or urgency >= m[m[LINES] + m[frame + B_LINE] * LINE_SIZE + L_URGENCY]:
            return False
    elif m[PHASE] != WORKS:
        return True
    return m[frame + B_GUARDS] == m[frame + B_GUARDS_END] or held_until(m, frame, urgency) < 0


@kernel()
def wait_no_more(m: Ints, number: int) -> None:
    """A line no longer waits: if it was the best, the next that does is."""
    word = m[WAITING] + number // LINES_A_WORD
    m[word] &= ~(1 << number % LINES_A_WORD)
    if m[BEST] == number:
        while m[word] == 0:
            word += 1
        m[BEST] = (word - m[WAITING]) * LINES_A_WORD + bit_length(m[word] & -m[word]) - 1


@kernel()
def push(m: Ints, log: Ints, number: int) -> None:
    """Clear a line's mark and put its body on the stack."""
    line = m[LINES] + number * LINE_SIZE
    depth = m[DEPTH] + 1
    frame = m[FRAME] + m[FRAME_SIZE]
    taken = m[line + L_HELD] if m[line + L_ALL] else 1
    cost, head = 0, m[line + L_HEAD]
    for place in range(taken):
        entry = m[line + L_ROOM] + 2 * head
        row_number = m[entry + 1]
        row = m[ROWS] + row_number * ROW_SIZE
        if place == 0:
            m[frame + B_EVENT] = m[entry]
            m[frame + B_ROW] = row_number
        cost += draw_body(m, m[row + R_LEAST], m[row + R_MOST], m[row + R_MEASURED], m[row + R_MEASURED_END])
        m[row + R_WAITS] -= 1
        head += 1
        if head == m[line + L_SIZE]:
            head = 0
    m[line + L_HEAD] = head
    m[line + L_HELD] -= taken
    if m[line + L_HELD] == 0:
        wait_no_more(m, number)
    m[DEPTH] = depth
    m[FRAME] = frame
    m[frame + B_LINE] = number
    m[frame + B_COST] = cost
    m[frame + B_DONE] = m[frame + B_STANDS] = 0
    m[frame + B_START] = -1
    m[frame + B_GUARDS] = m[line + L_GUARDS]
    m[frame + B_GUARDS_END] = m[line + L_GUARDS_END]
    if m[line + L_DRAINS] >= 0:
        buffer = m[BUFFERS] + m[line + L_DRAINS] * BUFFER_SIZE
        if m[m[ROWS] + m[frame + B_ROW] * ROW_SIZE + R_ASKED] or m[buffer + Q_STATE] == RESTS:
            m[buffer + Q_STATE] = SERVED
    m[frame + B_NTH], m[frame + B_NEXT], m[frame + B_UNTIL] = 0, NEVER, -1
    if m[line + L_NTH]:
        m[frame + B_NTH] = m[line + L_NTH_IN] == 0
        m[line + L_NTH_IN] += m[line + L_NTH] - 1 if m[frame + B_NTH] else -1
    place = m[frame + B_TIMES]
    for moment in range(m[line + L_MOMENTS], m[line + L_MOMENTS_END], INNER_SIZE):
        m[place] = draw_cost(m, m[moment + I_LEAST], m[moment + I_MOST])
        m[frame + B_NEXT] = min(m[frame + B_NEXT], m[place])
        place += 1
    write(m, log, TAKEN, m[frame + B_ROW], m[frame + B_EVENT])
    if m[line + L_GUARDS] != m[line + L_GUARDS_END]:
        draw_guards(m, log, frame)


@kernel()
def accept(m: Ints, log: Ints, least: int, most: int) -> None:
    """Accept the best line; entry or chain takes [least, most]."""
    number = m[BEST]
    line = m[LINES] + number * LINE_SIZE
    length = draw_cost(m, least, most)
    first = m[line + L_ROOM] + 2 * m[line + L_HEAD]
    write(m, log, ACCEPT, m[first + 1], m[first])
    m[line + L_OVER] += length
    m[PAYING] = number
    if not m[LATE_ARRIVAL]:
        push(m, log, number)
    m[MODE] = ENTRY
    m[ENTRY_PAID] = length
    m[UNTIL] = m[NOW] + length


@kernel()
def finish_entry(m: Ints, log: Ints) -> None:
    """With late arrival the most urgent line that is pending by now is entered in place of the accepted one."""
    if m[LATE_ARRIVAL]:
        number, best = m[PAYING], m[BEST]
        line, other = m[LINES] + number * LINE_SIZE, m[LINES] + best * LINE_SIZE
        if best < m[N_LINES] and m[other + L_URGENCY] < m[line + L_URGENCY]:
            number = best
            m[line + L_OVER] -= m[ENTRY_PAID]  # who is entered pays for it
            m[other + L_OVER] += m[ENTRY_PAID]
        push(m, log, number)
    m[MODE] = RUN


@kernel()
def lengthen(m: Ints, frame: int, cost: int) -> None:
    """The body in this frame goes on for so long, and guards to its end with it."""
    before, place = m[frame + B_COST], m[frame + B_HOLDS]
    m[frame + B_COST] = before + cost
    for guard in range(m[frame + B_GUARDS], m[frame + B_GUARDS_END], GUARD_SIZE):
        if m[guard + G_MOST] < 0 and m[place + 1] == before:
            m[place + 1] = before + cost
        place += 2


@kernel()
def raise_inner(m: Ints, log: Ints, frame: int, number: int) -> None:
    """An event within the routine of this frame happens."""
    write(m, log, INNER, number, m[frame + B_EVENT])
    raise_event(m, log, m[N_SOURCES] + 2 * (m[N_UNITS] + m[N_LINES] + m[N_STEPS]) + m[N_BUFFERS] + number)


@kernel()
def reach(m: Ints, log: Ints, frame: int) -> None:
    """(3) The routine on top has come to the next event within it; of several at one instant those written first."""
    line, place = m[LINES] + m[frame + B_LINE] * LINE_SIZE, m[frame + B_TIMES]
    happens, later = -1, NEVER
    for moment in range(m[line + L_MOMENTS], m[line + L_MOMENTS_END], INNER_SIZE):
        if happens < 0 and m[place] == m[frame + B_NEXT]:
            happens, m[place] = m[moment + I_INNER], NEVER
        later = min(later, m[place])
        place += 1
    m[frame + B_NEXT] = later
    raise_inner(m, log, frame, happens)


@kernel()
def pass_by(m: Ints, frame: int) -> None:
    """The routine on top pauses: what others took meanwhile is over by the clock."""
    left = max(0, m[frame + B_UNTIL] - m[NOW])
    if m[frame + B_COST] - m[frame + B_DONE] > left:
        lengthen(m, frame, m[frame + B_DONE] + left - m[frame + B_COST])


@kernel()
def clear(m: Ints, log: Ints, number: int) -> None:
    """A line that is no longer wanted is cleared, with all that waits on it."""
    line = m[LINES] + number * LINE_SIZE
    for _ in range(m[line + L_HELD]):
        entry = m[line + L_ROOM] + 2 * m[line + L_HEAD]
        row = m[ROWS] + m[entry + 1] * ROW_SIZE
        m[row + R_WAITS] -= 1
        m[row + R_CLEARED] += 1
        write(m, log, CLEARED, m[entry + 1], m[entry])
        m[line + L_HEAD] = m[line + L_HEAD] + 1 if m[line + L_HEAD] + 1 < m[line + L_SIZE] else 0
    m[line + L_HELD] = 0
    wait_no_more(m, number)


@kernel()
def end_routine(m: Ints, log: Ints) -> None:
    """(3) A body has ended, if it drains nothing more: flags, its end and all that raises; then the chain, or back."""
    now, frame = m[NOW], m[FRAME]
    number, event = m[frame + B_LINE], m[frame + B_EVENT]
    line = m[LINES] + number * LINE_SIZE
    drains = m[line + L_DRAINS]
    if drains >= 0 and copy_next(m, log, drains):
        lengthen(m, frame, draw_cost(m, m[line + L_EACH_LEAST], m[line + L_EACH_MOST]))
        return
    if m[frame + B_NTH] == 1:
        m[frame + B_NTH] = 2
        more = draw_cost(m, m[line + L_NTH_LEAST], m[line + L_NTH_MOST])
        if more:
            lengthen(m, frame, more)
            return
    if m[line + L_PAUSE_MOST] and m[frame + B_UNTIL] < 0:
        length = draw_cost(m, m[line + L_PAUSE_LEAST], m[line + L_PAUSE_MOST])
        m[frame + B_UNTIL] = now + length
        if length:
            lengthen(m, frame, length)
            return
    stat, size = m[line + L_STATS], m[STAT_SIZE]
    observe(m, stat + size, now - event, 1)
    observe(m, stat + 2 * size, now - m[frame + B_START], 1)
    observe(m, stat + 3 * size, m[frame + B_COST], 1)
    m[line + L_BODY] += m[frame + B_COST]
    write(m, log, LAST, m[frame + B_ROW], event)
    m[DEPTH] -= 1
    m[FRAME] = frame - m[FRAME_SIZE]
    if m[line + L_CLEARS] and m[line + L_HELD]:
        clear(m, log, number)
    for address in range(m[line + L_SETS], m[line + L_SETS_END]):
        set_flag(m, log, m[address])
    if m[line + L_MOVES] >= 0:
        for _ in range(m[m[BUFFERS] + drains * BUFFER_SIZE + Q_TOOK]):
            for follows in (spill(m, log, m[line + L_MOVES]), put(m, log, m[line + L_MOVES])):
                if follows >= 0:
                    raise_event(m, log, follows)
    if m[frame + B_NTH]:
        raise_inner(m, log, frame, m[line + L_NTH_INNER])
    raise_event(m, log, m[N_SOURCES] + 2 * (m[N_UNITS] + number) + 1)
    if drains >= 0 and m[m[BUFFERS] + drains * BUFFER_SIZE + Q_STATE] == SERVED:
        m[m[BUFFERS] + drains * BUFFER_SIZE + Q_STATE] = RESTS
        again = ask(m, log, drains)
        if again >= 0:
            raise_event(m, log, again)
    if acceptable(m):
        accept(m, log, m[CHAIN_LEAST], m[CHAIN_MOST])
        longer = m[ENTRY_PAID] - m[ENTRY_MOST]  # than any entry: who ends here pays for it, as on paper
        if longer > 0:
            m[m[LINES] + m[PAYING] * LINE_SIZE + L_OVER] -= longer
            m[line + L_OVER] += longer
            m[ENTRY_PAID] -= longer
        return
    length = draw_cost(m, m[EXIT_LEAST], m[EXIT_MOST])
    m[line + L_OVER] += length
    m[PAYING] = number
    m[MODE] = EXIT
    m[UNTIL] = now + length


@kernel()
def begin_routine(m: Ints, log: Ints, frame: int) -> None:
    """(5) The first instruction of the routine on top."""
    number = m[frame + B_LINE]
    m[frame + B_START] = m[NOW]
    observe(m, m[m[LINES] + number * LINE_SIZE + L_STATS], m[NOW] - m[frame + B_EVENT], 1)
    write(m, log, START, m[frame + B_ROW], m[frame + B_EVENT])
    line = m[LINES] + number * LINE_SIZE
    if m[line + L_DRAINS] >= 0:
        take_in(m, log, m[line + L_DRAINS], m[line + L_TAKES])
    raise_event(m, log, m[N_SOURCES] + 2 * (m[N_UNITS] + number))


# --- the loop --------------------------------------------------------------------------------------------------------


@kernel()
def move_due(m: Ints, step: int, many: int) -> None:
    """Move a software timer on by so many grid points."""
    over = m[step + P_DUE_OVER] + many * m[step + P_REST]
    m[step + P_DUE] += many * m[step + P_WHOLE] + over // m[step + P_DEN]
    m[step + P_DUE_OVER] = over % m[step + P_DEN]


@kernel()
def set_timer(m: Ints, step: int) -> None:
    """Re-arm a software timer whose step begins now."""
    now = m[NOW]
    if m[step + P_REARM] == FROM_NOW:
        m[step + P_DUE] = now + m[step + P_WHOLE]
    elif m[step + P_REARM] == GRID:
        move_due(m, step, 1)
    else:
        behind = (now - m[step + P_DUE]) // (m[step + P_WHOLE] + 1)
        if behind > 1:  # whole periods at once; the last few one by one
            move_due(m, step, behind - 1)
        while m[step + P_DUE] <= now:
            move_due(m, step, 1)


@kernel()
def opens(m: Ints, log: Ints, number: int) -> bool:
    """Whether a step runs now; its flag is then taken and its timer set anew."""
    step, now = m[STEPS] + number * STEP_SIZE, m[NOW]
    timed = m[step + P_DEN] > 0
    if timed and now < m[step + P_DUE]:
        return False
    if m[step + P_ONCE] and m[step + P_LAST] >= 0:
        return False
    if not flags_open(m, step):
        return False
    if m[step + P_ASKED] >= 0 and not asks(m, m[BUFFERS] + m[step + P_ASKED] * BUFFER_SIZE):
        return False
    if m[step + P_DRAINS] >= 0:
        take_in(m, log, m[step + P_DRAINS], m[step + P_TAKES])
    stat, cause = m[step + P_STATS], now
    for address in range(m[step + P_POLLS], m[step + P_POLLS_END]):
        if m[m[FLAGS] + m[address] * FLAG_SIZE + F_SET]:
            take_flag(m, log, m[address])
    if timed:
        cause = m[step + P_DUE]
        observe(m, stat + 2 * m[STAT_SIZE], now - cause, 1)
        set_timer(m, step)
    if m[step + P_LAST] >= 0:
        observe(m, stat, now - m[step + P_LAST], 1)
    m[step + P_LAST] = now
    m[STEP_BEGAN] = now
    wait_for_next(m, step)
    write(m, log, STEP_START, number, cause)
    if m[PASS_RAN] == 0:
        m[PASS_RAN] = 1
        write(m, log, PASS, number, m[PASS_BEGAN])
    raise_event(m, log, m[N_SOURCES] + 2 * (m[N_UNITS] + m[N_LINES] + number))
    return True


@kernel()
def flags_open(m: Ints, step: int) -> bool:
    """Whether one of the flags that a step polls is set, or all where it waits for all, or it polls none."""
    for address in range(m[step + P_POLLS], m[step + P_POLLS_END]):
        if (m[m[FLAGS] + m[address] * FLAG_SIZE + F_SET] != 0) != m[step + P_ALL]:
            return m[step + P_ALL] == 0
    return m[step + P_ALL] == 1 or m[step + P_POLLS] == m[step + P_POLLS_END]


@kernel()
def take_flag(m: Ints, log: Ints, number: int) -> None:
    """A step takes a flag: it is cleared, and the time since it was set counted."""
    flag = m[FLAGS] + number * FLAG_SIZE
    was_set = m[flag + F_SET] - 1
    observe(m, m[flag + F_STATS], m[NOW] - was_set, 1)
    m[flag + F_SET] = 0
    write(m, log, FLAG_TAKEN, number, was_set)


@kernel()
def begin_pass(m: Ints) -> None:
    """A pass is over, if one was begun; the next begins with its overhead. Idle passes are skipped in whole passes."""
    now, stat = m[NOW], m[PASS_STATS]
    if m[PASS_BEGAN] >= 0:
        observe(m, stat, now - m[PASS_BEGAN], 1)
        if m[PASS_RAN]:
            m[LOOP_LOAD] += m[PASS_COST]
    cost = draw_cost(m, m[OVERHEAD_LEAST], m[OVERHEAD_MOST])
    many = (min(idle_until(m), m[END] + 1) - 1 - now) // cost
    while many > 0:
        some = min(many, 1 << 20)  # so that the sum of the statistics fits its word
        observe(m, stat, cost, some)
        now += some * cost
        many -= some
    m[NOW] = now
    m[PASS_BEGAN] = now
    m[PASS_RAN] = 0
    m[PASS_COST] = cost
    m[PHASE] = OVERHEAD
    begin_body(m, cost)


@kernel()
def begin_body(m: Ints, cost: int) -> None:
    """The loop begins something that burns CPU time."""
    frame = m[FRAMES]
    m[frame + B_COST] = cost
    m[frame + B_DONE] = 0


@kernel()
def idle_until(m: Ints) -> int:
    """The first instant at which a look of the loop could open a step, or something comes from outside."""
    earliest = m[EARLIEST]
    for number in range(m[N_STEPS]):
        step = m[STEPS] + number * STEP_SIZE
        if not flags_open(m, step) or m[step + P_ONCE]:
            continue
        if m[step + P_ASKED] >= 0 and not asks(m, m[BUFFERS] + m[step + P_ASKED] * BUFFER_SIZE):
            continue
        if m[step + P_DEN] == 0:
            return 0
        earliest = min(earliest, m[step + P_DUE])
    return earliest


@kernel()
def wait_is_over(m: Ints, act: int) -> bool:
    """Whether what a step waits for holds: a unit neither works nor has starts waiting, or a flag is set."""
    if m[act + A_PAST] >= 0:
        return m[m[UNITS] + m[act + A_UNIT] * UNIT_SIZE + U_ENDS] > m[act + A_PAST]
    if m[act + A_UNIT] >= 0:
        return m[m[NEXT] + m[act + A_UNIT]] == NEVER
    return any_set(m, act)


@kernel()
def wait_for_next(m: Ints, step: int) -> None:
    """A step begins: it waits for no end of a unit that has been."""
    for act in range(m[step + P_ACTS], m[step + P_ACTS_END], ACT_SIZE):
        if m[act + A_PAST] >= 0:
            m[act + A_PAST] = m[m[UNITS] + m[act + A_UNIT] * UNIT_SIZE + U_ENDS]


@kernel()
def use_end(m: Ints, step: int, unit: int) -> None:
    """An end of a unit is used: no later wait of this run is for it."""
    for act in range(m[step + P_ACTS], m[step + P_ACTS_END], ACT_SIZE):
        if m[act + A_PAST] >= 0 and m[act + A_UNIT] == unit:
            m[act + A_PAST] += 1


@kernel()
def any_set(m: Ints, act: int) -> bool:
    """Whether one of the flags that an act looks at is set."""
    for address in range(m[act + A_FLAGS], m[act + A_FLAGS_END]):
        if m[m[FLAGS] + m[address] * FLAG_SIZE + F_SET]:
            return True
    return False


@kernel()
def begin_act(m: Ints, log: Ints, number: int) -> None:
    """A step's next act, or its end after the last."""
    act = m[AT_ACT]
    if act == m[m[STEPS] + number * STEP_SIZE + P_ACTS_END]:
        end_step(m, log, number)
    elif m[act + A_KIND] == WORK:
        begin_work(m, log, number, act)
    elif m[act + A_KIND] == WAIT:
        m[PHASE] = WAITS
        m[WAIT_UNTIL] = -1
    elif m[act + A_KIND] == PAUSE:
        begin_pause(m, log, number, act)
    elif m[act + A_KIND] == DRAIN:
        if copy_next(m, log, m[act + A_UNIT]):
            begin_copy(m, log, number, act)
        else:
            m[AT_ACT] += ACT_SIZE
    elif m[act + A_KIND] == PUT:
        m[PHASE] = PUTS
        m[WAIT_UNTIL] = -1
        m[PUT_LEFT] = draw_cost(m, m[act + A_LEAST], m[act + A_MOST])
    else:
        m[AT_ACT] += ACT_SIZE
        if not any_set(m, act):
            begin_halt(m, log, number, act)
        elif m[AT_ACT] < m[m[STEPS] + number * STEP_SIZE + P_ACTS_END]:  # nothing to wake from
            m[AT_ACT] += ACT_SIZE


@kernel()
def begin_work(m: Ints, log: Ints, number: int, act: int) -> None:
    """A step begins to burn the cost of an act."""
    frame = m[FRAMES]
    begin_body(m, draw_body(m, m[act + A_LEAST], m[act + A_MOST], m[act + A_MEASURED], m[act + A_MEASURED_END]))
    m[frame + B_GUARDS] = m[act + A_GUARDS]
    m[frame + B_GUARDS_END] = m[act + A_GUARDS_END]
    write(m, log, STEP_PHASE, number, WORK)
    draw_guards(m, log, frame)
    if m[act + A_MASKED]:  # from before its first instant on
        m[m[frame + B_HOLDS]] = -1
    m[PHASE] = WORKS


@kernel()
def begin_copy(m: Ints, log: Ints, number: int, act: int) -> None:
    """A step begins to burn what one item costs; no guard holds in it."""
    frame = m[FRAMES]
    begin_body(m, draw_cost(m, m[act + A_LEAST], m[act + A_MOST]))
    m[frame + B_GUARDS] = m[frame + B_GUARDS_END] = 0
    write(m, log, STEP_PHASE, number, DRAIN)
    m[PHASE] = WORKS


@kernel()
def put_on(m: Ints, log: Ints, number: int) -> bool:
    """A step puts as many as find room, and goes on once all are in; False where it has to let time pass first.

    What it has put may raise a line, which is accepted at once.
    """
    buffer, before = m[m[AT_ACT] + A_UNIT], m[PUT_LEFT]
    address = m[BUFFERS] + buffer * BUFFER_SIZE
    while m[PUT_LEFT] > 0 and m[address + Q_HELD] < m[address + Q_DEPTH]:
        m[PUT_LEFT] -= 1
        follows = put(m, log, buffer)
        if follows >= 0:
            raise_event(m, log, follows)
    if m[PUT_LEFT] == 0:
        m[PHASE] = NEXT_ACT
        m[AT_ACT] += ACT_SIZE
        return True
    if m[WAIT_UNTIL] < 0:
        m[WAIT_UNTIL] = NEVER
        write(m, log, STEP_PHASE, number, PUT)
    return m[PUT_LEFT] < before


@kernel()
def begin_pause(m: Ints, log: Ints, number: int, act: int) -> None:
    """A step spins by the clock on the wall."""
    pause = draw_cost(m, m[act + A_LEAST], m[act + A_MOST])
    m[WAIT_UNTIL] = m[NOW] + pause
    m[PHASE] = SPINS
    if pause:
        write(m, log, STEP_PHASE, number, PAUSE)


@kernel()
def wait_on(m: Ints, log: Ints, number: int) -> bool:
    """A step waits, goes on to its next act, or gives up; False while it has to let time pass."""
    act, now = m[AT_ACT], m[NOW]
    if wait_is_over(m, act):
        if m[act + A_UNIT] < 0:
            take_flag(m, log, m[m[act + A_FLAGS]])
        elif m[act + A_PAST] >= 0:
            use_end(m, m[STEPS] + number * STEP_SIZE, m[act + A_UNIT])
        m[PHASE] = NEXT_ACT
        m[AT_ACT] += ACT_SIZE
        return True
    if m[WAIT_UNTIL] < 0:
        m[WAIT_UNTIL] = NEVER
        if m[act + A_MOST] >= 0:
            m[WAIT_UNTIL] = now + draw_cost(m, m[act + A_LEAST], m[act + A_MOST])
        write(m, log, STEP_PHASE, number, WAIT)
    if now < m[WAIT_UNTIL]:
        return False
    m[PHASE] = NEXT_ACT
    m[AT_ACT] = m[m[STEPS] + number * STEP_SIZE + P_ACTS_END]
    return True


@kernel()
def end_work(m: Ints, log: Ints, number: int) -> None:
    """The cost of an act is paid: a pause behind it begins at once, whatever interrupts it."""
    step = m[STEPS] + number * STEP_SIZE
    m[step + P_BODY] += m[m[FRAMES] + B_COST]
    m[PHASE] = NEXT_ACT
    if m[m[AT_ACT] + A_KIND] == DRAIN and copy_next(m, log, m[m[AT_ACT] + A_UNIT]):
        begin_copy(m, log, number, m[AT_ACT])
        return
    m[AT_ACT] += ACT_SIZE
    act = m[AT_ACT]
    if act < m[step + P_ACTS_END] and m[act + A_KIND] == PAUSE:
        begin_pause(m, log, number, act)


@kernel()
def end_step(m: Ints, log: Ints, number: int) -> None:
    """A step has done all its acts."""
    began = m[STEP_BEGAN]
    observe(m, m[m[STEPS] + number * STEP_SIZE + P_STATS] + m[STAT_SIZE], m[NOW] - began, 1)
    write(m, log, STEP_END, number, began)
    m[AT_STEP] = number + 1
    m[PHASE] = GATE
    if m[m[STEPS] + number * STEP_SIZE + P_ONCE]:
        set_timers(m)
    raise_event(m, log, m[N_SOURCES] + 2 * (m[N_UNITS] + m[N_LINES] + number) + 1)


@kernel()
def set_timers(m: Ints) -> None:
    """The loop is started up: its timers count from now on."""
    for number in range(m[N_STEPS]):
        m[m[STEPS] + number * STEP_SIZE + P_DUE] += m[NOW]


@kernel()
def loop_act(m: Ints, log: Ints) -> bool:
    """(5) The loop's next act; False when it has to let time pass first."""
    phase, number = m[PHASE], m[AT_STEP]
    if phase == IDLE:
        return False
    if phase == OVERHEAD or phase == WORKS:
        frame = m[FRAMES]
        if m[frame + B_DONE] < m[frame + B_COST]:
            return False
        if phase == WORKS:
            end_work(m, log, number)
        else:
            m[AT_STEP] = 0
            m[PHASE] = GATE
    elif phase == GATE:
        if number == m[N_STEPS]:
            begin_pass(m)
        elif opens(m, log, number):
            m[PHASE] = NEXT_ACT
            m[AT_ACT] = m[m[STEPS] + number * STEP_SIZE + P_ACTS]
        else:
            m[AT_STEP] = number + 1
    elif phase == NEXT_ACT:
        begin_act(m, log, number)
    elif phase == WAITS:
        return wait_on(m, log, number)
    elif phase == PUTS:
        return put_on(m, log, number)
    else:
        if m[NOW] < m[WAIT_UNTIL]:
            return False
        m[PHASE] = NEXT_ACT
        m[AT_ACT] += ACT_SIZE
    return True


# --- time ------------------------------------------------------------------------------------------------------------


@kernel()
def begin_halt(m: Ints, log: Ints, number: int, act: int) -> None:
    """The core halts: plainly, while one of the units that ask for it is at work; else what it stops stands still."""
    m[MODE] = HALT
    m[HALTED] = m[NOW]
    write(m, log, HALTS, number, m[NOW])
    m[SHALLOW] = 0
    for address in range(m[act + A_PLAIN], m[act + A_PLAIN_END]):
        if m[m[NEXT] + m[address]] != NEVER:
            m[SHALLOW] = 1
    if m[SHALLOW] == 0 and (m[act + A_STOPS] != m[act + A_STOPS_END] or m[act + A_STILL] != m[act + A_STILL_END]):
        m[STOPPED] = act
        stand_still(m, 0, m[N_UNITS] + m[N_SOURCES] - 1)
        for address in range(m[act + A_STILL], m[act + A_STILL_END]):
            advance(m, m[address])
            m[m[address] + C_SINCE] = NEVER


@kernel()
def stand_still(m: Ints, first: int, last: int) -> None:
    """Of these items, units before sources, those that the halt stops keep what is left of their time."""
    for address in range(m[m[STOPPED] + A_STOPS], m[m[STOPPED] + A_STOPS_END]):
        item = m[address]
        time = m[m[NEXT] + item]
        if first <= item <= last and time < STILL:
            m[m[LEFT] + item] = time - m[NOW]
            set_next(m, item, STILL)


@kernel()
def go_on(m: Ints) -> None:
    """The clocks are back: what stood still goes on with what is left of its time."""
    act, stood, units = m[STOPPED], m[NOW] - m[HALTED], m[N_UNITS]
    m[STOPPED] = 0
    for address in range(m[act + A_STILL], m[act + A_STILL_END]):
        m[m[address] + C_SINCE] = m[NOW]
    for address in range(m[act + A_STOPS], m[act + A_STOPS_END]):
        item = m[address]
        if m[m[NEXT] + item] != STILL:
            continue
        set_next(m, item, m[NOW] + m[m[LEFT] + item])
        if item < units:
            unit = m[UNITS] + item * UNIT_SIZE
            m[unit + U_SINCE] = m[NOW] if m[unit + U_SINCE] > m[HALTED] else m[unit + U_SINCE] + stood
        else:
            source = m[SOURCES] + (item - units) * SOURCE_SIZE
            m[source + S_BASE] += stood
            m[source + S_BEGAN] += stood
            for place in range(m[source + S_ROOM], m[source + S_ROOM] + m[source + S_HELD]):
                m[place] += stood


@kernel()
def end_waking(m: Ints, log: Ints) -> None:
    """The core is awake: clocks go on, and where interrupts stay held off, the step does so at once."""
    if m[STOPPED]:
        go_on(m)
    act, number = m[AT_ACT], m[AT_STEP]
    if act < m[m[STEPS] + number * STEP_SIZE + P_ACTS_END]:
        begin_work(m, log, number, act)


@kernel()
def begin_waking(m: Ints, log: Ints) -> None:
    """A line is pending while the core is halted."""
    act, slept, step = m[AT_ACT] - ACT_SIZE, m[NOW] - m[HALTED], m[STEPS] + m[AT_STEP] * STEP_SIZE
    least, most = m[act + A_LEAST], m[act + A_MOST]
    if m[SHALLOW]:
        least, most = m[act + A_PLAIN_LEAST], m[act + A_PLAIN_MOST]
        m[step + P_SHALLOW] += slept
    length = draw_cost(m, least, most)
    m[step + P_ASLEPT] += slept
    m[WOKEN_BY] = m[BEST]
    m[WAKE_UPS] += 1
    m[m[LINES] + m[BEST] * LINE_SIZE + L_WOKE] += length
    m[MODE] = WAKE
    m[UNTIL] = m[NOW] + length
    write(m, log, WAKES, m[AT_STEP], m[HALTED])


@kernel()
def core_acts(m: Ints, log: Ints) -> bool:
    """(3), (4) and (5) of an instant, again and again, until time has to pass; False where the log is full before."""
    acts = m[ACTS]
    while acts < MOST_ACTS:
        if m[LOGGED] > m[LOG_FULL]:
            m[ACTS] = acts
            return False
        acts += 1
        mode = m[MODE]
        if mode == HALT:
            if m[BEST] >= m[N_LINES]:
                return True
            begin_waking(m, log)
            continue
        if mode != RUN:
            if m[NOW] < m[UNTIL]:
                return True
            if mode == ENTRY:
                finish_entry(m, log)
            else:
                m[MODE] = RUN
                if mode == WAKE:
                    end_waking(m, log)
                elif mode == EXIT:
                    write(m, log, BACK, m[m[FRAME] + B_ROW] if m[DEPTH] else m[N_ROWS], m[NOW])
        frame = m[FRAME]
        if m[DEPTH] > 0:
            if m[frame + B_UNTIL] >= 0:
                pass_by(m, frame)
            if m[frame + B_START] >= 0 and m[frame + B_NEXT] <= m[frame + B_DONE]:
                reach(m, log, frame)
            elif m[frame + B_START] >= 0 and m[frame + B_DONE] == m[frame + B_COST]:
                end_routine(m, log)
            elif acceptable(m):
                accept(m, log, m[ENTRY_LEAST], m[ENTRY_MOST])
            elif m[frame + B_START] >= 0:
                return True
            else:
                begin_routine(m, log, frame)
        elif m[PHASE] == WORKS and m[frame + B_DONE] == m[frame + B_COST]:
            end_work(m, log, m[AT_STEP])  # a body that has ended holds nothing off any more
        elif acceptable(m):
            accept(m, log, m[ENTRY_LEAST], m[ENTRY_MOST])
        elif not loop_act(m, log):
            return True
    m[FAULT] = STANDS_STILL
    return True


@kernel()
def burns(m: Ints) -> bool:
    """Whether the running context burns CPU time, so that its body gets on."""
    if m[MODE] != RUN:
        return False
    return m[DEPTH] > 0 or m[PHASE] == OVERHEAD or m[PHASE] == WORKS


@kernel()
def body_edge(m: Ints) -> int:
    """When the body on top ends, or the guard in it that holds the best pending line off."""
    frame = m[FRAME]
    edge, best = m[frame + B_COST], m[BEST]
    if best < m[N_LINES] and (m[DEPTH] == 0 or m[NESTING]) and m[frame + B_GUARDS] != m[frame + B_GUARDS_END]:
        if m[DEPTH] > 0 or m[PHASE] == WORKS:
            until = held_until(m, frame, m[m[LINES] + best * LINE_SIZE + L_URGENCY])
            if until >= 0:
                edge = min(edge, until)
    if m[DEPTH] > 0:
        edge = min(edge, m[frame + B_NEXT])
    return m[NOW] + m[frame + B_STANDS] + edge - m[frame + B_DONE]


@kernel(patience=3)
def play(memory: Ints, records: Ints, turns: int) -> bool:
    """Play until the end, for ``turns`` instants at most, or until there is no room for records; whether it ended.

    A fault (a chain that takes no time) is noted in ``memory[FAULT]``. Where the log is full before all of an instant
    has happened, ``memory[WITHIN]`` is 1, and the next call goes on with the same instant.
    """
    m, log = bare(memory), bare(records)
    goes_on = m[WITHIN]
    m[WITHIN] = 0
    for _ in range(turns):
        if (m[EARLIEST] <= m[NOW] or m[N_ENDED]) and not outside(m, log):
            m[WITHIN] = 1
            return m[FAULT] != 0
        if not core_acts(m, log):
            m[WITHIN] = 1
            return m[FAULT] != 0
        now, later = m[NOW], m[EARLIEST]
        if m[FAULT]:
            return True
        if later <= now:
            continue
        if burns(m):
            later = min(later, body_edge(m))
            if later > m[END]:
                return True
            stood = min(m[m[FRAME] + B_STANDS], later - now)
            m[m[FRAME] + B_STANDS] -= stood
            m[m[FRAME] + B_DONE] += later - now - stood
        else:
            if m[MODE] == RUN:
                if m[PHASE] == WAITS or m[PHASE] == SPINS or m[PHASE] == PUTS:
                    later = min(later, m[WAIT_UNTIL])
                    m[m[STEPS] + m[AT_STEP] * STEP_SIZE + P_SPUN] += min(later, m[END]) - now
            elif m[MODE] != HALT:
                later = min(later, m[UNTIL])
            if later > m[END]:
                return True
        m[NOW] = later
        m[ACTS] = 0
        if goes_on or m[LOGGED] > m[LOG_FULL] // 2:  # better here, between two instants, than within the next
            return False
    return False


@kernel()
def begin(memory: Ints, records: Ints, primed: Ints) -> None:
    """Time zero: the first event of every source is known, all primed units begin, and then each raises its start."""
    m, log = bare(memory), bare(records)
    for source in range(m[N_SOURCES]):
        set_next(m, m[N_UNITS] + source, next_event(m, source, True))
    for unit in range(m[N_UNITS]):
        if primed[unit]:
            start_unit(m, log, unit)
    for unit in range(m[N_UNITS]):
        if primed[unit]:
            raise_event(m, log, m[N_SOURCES] + 2 * unit)
