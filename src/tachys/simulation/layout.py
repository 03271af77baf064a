"""The engine's memory: one flat array of whole numbers, in which every thing has a record of its own.

The first words are the scalars below; some say where the records of a kind begin. A record is reached by its address,
a field by address + offset. Times are picoseconds, names are indices, addresses are places in the same array. Items
are what happens outside the core by itself, units first, then sources, then buffers whose quiet time is over. Rows are
the inputs of the lines, in the order of acceptance. Events are numbered sources, then start and end of every unit, of
every line, of every step, then the requests of buffers, then what lies within routines.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tachys.errors import InternalError

Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]

NEVER = 1 << 62
COUNTING = NEVER - 1  # when a unit ends that counts events, or stays silent
STILL = NEVER - 2  # when something comes whose clock stands still: what is left of its time lies at LEFT
ALWAYS = 1 << 31  # above what 31 random bits can be
FIRST_FLAG = 1 << 32  # among what an event raises, flags stand behind all rows
FIRST_FEED = 1 << 40  # and behind them buffers, each number times ITEMS and how many items it puts
ITEMS = 1 << 20
FIRST_COUNT = 1 << 61  # and behind them units that count it, or that it sends to rest, each number times two
FIRST_WATCH = FIRST_COUNT + (1 << 60)  # and behind them what is done to pins and counters, by its address
BLOCK = 16  # items whose earliest time is kept together
OCTAVES = 62

# --- scalars: where the run stands --------------------------------------------------------------------------------
(NOW, END, EARLIEST, BEST, MODE, UNTIL, DEPTH, FRAME, PAYING, PHASE, AT_STEP, PASS_RAN, PASS_BEGAN, PASS_COST,
 AT_ACT, WAIT_UNTIL, STEP_BEGAN, HALTED, LOGGED, FAULT, LOOP_LOAD, WOKEN_BY, WAKE_UPS, DRAW_0, DRAW_1, DRAW_2,
 DRAW_3) = range(27)  # fmt: skip
# --- scalars: how many there are, and where their records begin ---------------------------------------------------
(N_SOURCES, N_UNITS, N_LINES, N_ROWS, N_STEPS, N_FLAGS, N_ITEMS, N_BLOCKS, SOURCES, UNITS, LINES, ROWS, STEPS, FLAGS,
 FRAMES, FRAME_SIZE, NEXT, BLOCKS, RAISES_AT, CHAIN, CHAIN_SIZE, STATS, STAT_SIZE) = range(27, 50)  # fmt: skip
# --- scalars: how to play -----------------------------------------------------------------------------------------
(COSTS, ARRIVALS, JITTER, BITS, RECORD, NESTING, LATE_ARRIVAL, ENTRY_LEAST, ENTRY_MOST, EXIT_LEAST, EXIT_MOST,
 CHAIN_LEAST, CHAIN_MOST, OVERHEAD_LEAST, OVERHEAD_MOST) = range(50, 65)  # fmt: skip
EARLIEST_ITEM = 67
# --- scalars: within one instant ------------------------------------------------------------------------------------
(ACTS, WITHIN, ENDED, N_ENDED, AT_ENDED, ENTRY_PAID, LOG_FULL, LOG_END, AT_ONCE) = range(68, 77)
PASS_STATS = 77
BUFFERS, N_BUFFERS, PUT_LEFT = range(78, 81)
LEFT, STOPPED, SHALLOW = range(81, 84)  # STOPPED: the halt whose clocks stand still, or 0; SHALLOW: it is plain
PINS, N_PINS, COUNTERS, N_COUNTERS = range(84, 88)
WAITING = 88  # where it says, a bit each, which lines wait; behind them one that always does
LINES_A_WORD = 32
SCALARS = 89

# --- fields of the records, each in its order: the size of a record follows from its last field, its filling from
# their names (:func:`record`) ---
(S_KIND, S_JITTER, S_WHOLE, S_REST, S_DEN, S_GAP, S_EXTRA, S_COUNT, S_PAUSE, S_ROOM, S_BASE, S_OVER, S_LEFT, S_BEGAN,
 S_APART, S_WANTED, S_HELD) = range(17)  # fmt: skip
# S_APART: the record of those that it keeps apart from (0: none); S_WANTED: when it would have come (-1: when it does)
SOURCE_SIZE = S_HELD + 1
K_LAST, K_GAP, K_MEMBERS, K_MEMBERS_END = range(4)  # K_LAST: when one of them came last, or long ago
(U_LEAST, U_MOST, U_BUSY, U_DEPTH, U_ROOM, U_CAUSE, U_HEAD, U_HELD, U_LOST, U_DRAINS, U_ASKED, U_COUNTS, U_LEFT,
 U_REPEATS, U_ENDS, U_ANSWERS, U_SILENT, U_GONE, U_SINCE, U_WORKED, U_STEALS_LEAST, U_STEALS_MOST,
 U_STOLEN, U_STATS) = range(24)  # fmt: skip
# U_COUNTS: it ends with that many events (0: by time), of which U_LEFT are still to come; U_ANSWERS: it ends where 31
# random bits are below that; U_SILENT: what it is at never ends, as U_GONE did not; U_WORKED: how long in all, and
# since U_SINCE; U_STOLEN: how long the core stood in all, U_STEALS_LEAST to U_STEALS_MOST at each end
UNIT_SIZE = U_STATS + 1
(L_URGENCY, L_ALL, L_ROOM, L_SIZE, L_HEAD, L_HELD, L_SETS, L_SETS_END, L_GUARDS, L_GUARDS_END, L_BODY, L_OVER,
 L_DRAINS, L_EACH_LEAST, L_EACH_MOST, L_TAKES, L_MOVES, L_NTH, L_NTH_IN, L_NTH_LEAST, L_NTH_MOST, L_NTH_INNER,
 L_MOMENTS, L_MOMENTS_END, L_PAUSE_LEAST, L_PAUSE_MOST, L_CLEARS, L_WOKE, L_STATS) = range(29)  # fmt: skip
LINE_SIZE = L_STATS + 1  # L_NTH: each so many-th run does more (0: none), after L_NTH_IN others; L_WOKE: waking for it
I_LEAST, I_MOST, I_INNER = range(3)  # of an event within a routine: so much CPU time after the first instruction
INNER_SIZE = I_INNER + 1
(R_LINE, R_LEAST, R_MOST, R_PENDING, R_WAITS, R_LOST, R_ASKED, R_CLEARED, R_MEASURED,
 R_MEASURED_END) = range(10)  # fmt: skip
ROW_SIZE = R_MEASURED_END + 1
# P_ALL: it opens once all flags that it polls are set, P_ONCE: at time zero alone, P_ASKED: the buffer at whose request
# it opens, P_TAKES: how many items it takes at once, or none; P_SPUN, P_ASLEPT, P_SHALLOW: how long it has spun and
# slept in all, and plainly though it can sleep deep
(P_POLLS, P_POLLS_END, P_ALL, P_WHOLE, P_REST, P_DEN, P_REARM, P_ACTS, P_ACTS_END, P_DUE, P_DUE_OVER, P_LAST, P_BODY,
 P_ASKED, P_DRAINS, P_TAKES, P_ONCE, P_SPUN, P_ASLEPT, P_SHALLOW, P_STATS) = range(21)  # fmt: skip
STEP_SIZE = P_STATS + 1
# of each act of a step: what it is, how long it takes or its limit, what it waits for (or the buffer), flags, guards,
# measured costs
# of a wait for a next end how many ends of its unit it does not wait for: A_PAST (-1: it waits for rest)
# of a halt the items and the counters that stand still meanwhile, the units at which it is plain, and how long it then
# takes to wake
(A_KIND, A_LEAST, A_MOST, A_UNIT, A_FLAGS, A_FLAGS_END, A_GUARDS, A_GUARDS_END, A_MEASURED, A_MEASURED_END,
 A_STOPS, A_STOPS_END, A_STILL, A_STILL_END, A_PLAIN, A_PLAIN_END, A_PLAIN_LEAST, A_PLAIN_MOST, A_MASKED,
 A_PAST) = range(20)  # fmt: skip
ACT_SIZE = A_PAST + 1
F_SET, F_OVER, F_STATS = range(3)  # F_SET: 0, or 1 + the time it was first set
FLAG_SIZE = F_STATS + 1
# of a buffer: its put times lie in Q_ROOM; Q_STATE: whether its request waits or is served; Q_OVER: its quiet time is
# over; Q_TOOK: how many its drain took, Q_LEFT: how many of them it has still to copy, Q_COPIES: whether it copies one,
# Q_INSIDE: how many of them are still in; Q_EACH: it asks at each so many (0: never) of all Q_COUNT that were put;
# Q_UNTIL: its drain goes on until nothing is in; Q_INTO: the buffer in which there must be room for it to ask,
# Q_BEHIND: that which asks as this one has room (or -1)
(Q_DEPTH, Q_THRESHOLD, Q_QUIET_LEAST, Q_QUIET_MOST, Q_ROOM, Q_HEAD, Q_HELD, Q_LOST, Q_DEEPEST, Q_STATE, Q_OVER,
 Q_LEFT, Q_COPIES, Q_TOOK, Q_INSIDE, Q_EACH, Q_COUNT, Q_OVERWRITES, Q_UNTIL, Q_UNIT, Q_INTO, Q_BEHIND, Q_SPILLS,
 Q_STATS) = range(24)  # fmt: skip
BUFFER_SIZE = Q_STATS + 1
RESTS, ASKS, SERVED = range(3)
# of the stack, the loop at the bottom
(B_LINE, B_COST, B_DONE, B_EVENT, B_START, B_ROW, B_GUARDS, B_GUARDS_END, B_NTH, B_NEXT, B_UNTIL, B_STANDS, B_TIMES,
 B_HOLDS) = range(14)  # fmt: skip
# B_STANDS: for so long it gets on no further, as the bus is taken from it
# B_NTH: it is an n-th run that has yet to do more (1), or has (2); B_NEXT: the CPU time of the next event within it, of
# which the times lie at B_TIMES; B_UNTIL: when its pause is over (-1: it has not begun)
# of what is done to a pin or counter: what, its address, and how long a pulse is
W_DOES, W_TO, W_LENGTH = range(3)
WATCH_SIZE = W_LENGTH + 1
LOW, HIGH, TOGGLE, PULSE, COUNT_ONE, LOOK = range(6)
# O_LEVEL since O_SINCE; O_BEFORE the instant O_AT of the latest write; O_HIGH: how long it was high (or, where it has
# pulses, away from O_LEVEL), and a pulse goes on until O_UNTIL
(O_LEVEL, O_BEFORE, O_AT, O_SINCE, O_HIGH, O_EDGES, O_UNTIL) = range(7)
PIN_SIZE = O_UNTIL + 1
# C_COUNT: all that were counted; of a clock (C_DEN: 0 of an event) C_NUM / C_DEN a ps since C_SINCE (NEVER: it stands
# still), and C_REST; at C_LOOK it was looked at (-1: never), and what that showed is known once time has moved on:
# C_SEEN the time before; C_LEAST and C_MOST: counts from look to look
(C_STATES, C_COUNT, C_NUM, C_DEN, C_REST, C_SINCE, C_LOOK, C_SEEN, C_LOOKS, C_LEAST, C_MOST, C_TOPS,
 C_MISSED) = range(13)  # fmt: skip
COUNTER_SIZE = C_MISSED + 1
G_URGENCY, G_AT_LEAST, G_AT_MOST, G_LEAST, G_MOST = range(5)  # G_MOST -1: to the end of the body
GUARD_SIZE = G_MOST + 1
T_COUNT, T_HIGH, T_LOW, T_LEAST, T_MOST, T_BUCKETS = range(6)  # the sum is T_HIGH · 2^40 + T_LOW

# --- what can go wrong --------------------------------------------------------------------------------------------
STANDS_STILL, NO_ROOM = 1, 2  # a chain that takes no time; more at one instant than there is room for

# --- modes of the core; phases of the loop ------------------------------------------------------------------------
RUN, ENTRY, EXIT, WAKE, HALT = range(5)
OVERHEAD, GATE, NEXT_ACT, WAITS, WORKS, SPINS, IDLE, PUTS = range(8)
WAIT, WORK, PAUSE, HALT_ACT, DRAIN, PUT = range(6)  # as in tachys.model.acts.ACTS

# --- how sources come, units that are busy, software timers that re-arm -------------------------------------------
PERIODIC, SPORADIC, BURST = range(3)
DROP, RESTART, QUEUE = range(3)
GRID, SKIP, FROM_NOW = range(3)

# --- how costs and arrivals are played -----------------------------------------------------------------------------
MOST, LEAST, UNIFORM, TRIANGULAR, MEASURED = range(5)
DENSE, MEAN = range(2)
NO_JITTER, DRAWN_JITTER, FIRST_LATE = range(3)

# --- records of what happened: three words: time, kind and index, time of the cause -----------------------------
# PASS: the first step of a pass runs; its cause is the beginning of the pass, whose overhead is load then
# PIN_MOVED: its cause is the level; PIN_PULSED: its cause is when it comes back
# HOLD_FROM, HOLD_TO: in its CPU time the body that was taken, or the work that began, holds off an urgency (the index)
(SOURCE, LOST, UNIT_START, UNIT_END, UNIT_LOST, ACCEPT, START, LAST, BACK, HALTS, WAKES, STEP_START, STEP_END,
 FLAG_SET, FLAG_TAKEN, FLAG_OVER, STEP_PHASE, TAKEN, PASS, HOLD_FROM, HOLD_TO, ITEM_IN, ITEM_OUT, ITEM_LOST,
 ITEM_TAKEN, ASKED, ITEM_OVER, INNER, UNIT_OFF, CLEARED, UNIT_SILENT,
 PIN_MOVED, PIN_PULSED) = range(33)  # fmt: skip
KIND = 20  # bits of an index
RECORD_SIZE = 3
# RECORD: where it says for each kind what is recorded of it: NONE, EVERY, or where it says that for each index (0:
# nothing is recorded at all)
NONE, EVERY = range(2)
KINDS = PIN_PULSED + 1

_FIELDS = {
    prefix: sorted((n for n, at in globals().items() if n.startswith(f"{prefix}_") and isinstance(at, int)),
                   key=globals().__getitem__)
    for prefix in "SULRPAFGQIWOC"
}  # fmt: skip


def record(prefix: str, **values: int) -> list[int]:
    """The words of a record, each field by its name; ``prefix`` as its fields have it."""
    names = _FIELDS[prefix]
    if values.keys() != {name[2:].lower() for name in names}:
        raise InternalError(f"a record {prefix} with other fields: {sorted(values)}")
    return [int(values[name[2:].lower()]) for name in names]
