"""Worked examples of response-time analysis from the open literature, to the digit.

Times of the papers are written as milliseconds here; a task is a line of its own level, the overheads are 0.
"""

import pytest

from tachys.model.loading import read_model
from tachys.simulation.engine import Run
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds
from tachys.worstcase.arrivals import Bursts, most_before

MS = 10**9


def task_set(tasks, nesting=True, extra="", variant=None):
    """tasks: (period, cost[, jitter]) in ms, most urgent first."""
    text = f'tachys = 1\n[core]\nclock = "1 MHz"\nlevels = {len(tasks)}\nentry = "0 s"\nexit = "0 s"\n'
    text += f"nesting = {str(nesting).lower()}\n"
    for level, (period, cost, *jitter) in enumerate(tasks):
        text += f'[source.s{level}]\nevery = "{period} ms"\n'
        text += f'jitter = "{jitter[0]} ms"\n' if jitter else ""
        text += f'[isr.t{level}]\non = "source.s{level}"\nlevel = {level}\ncost = "{cost} ms"\npending = 9\n'
    return read_model(text + extra, "literature", variant)


EXAMPLES = {
    "Liu and Layland, JACM 20 (1973), section 4, figure 2": ([(2, 1), (5, 2)], True, [1, 4]),
    "Burns and Wellings, Real-Time Systems and Programming Languages, response-time analysis, set B": (
        [(20, 5), (40, 10), (80, 40)],
        True,
        [5, 15, 80],
    ),
    "Burns and Wellings, same chapter, set C": ([(7, 3), (12, 3), (20, 5)], True, [3, 6, 20]),
    "Sha and Goodenough, IEEE Computer 23 (1990), the set with the first cost doubled": (
        [(100, 40), (150, 40), (350, 100)],
        True,
        [40, 80, 300],
    ),
    "Buttazzo, Hard Real-Time Computing Systems, response-time analysis of four tasks": (
        [(4, 1), (5, 1), (6, 2), (11, 1)],
        True,
        [1, 2, 4, 10],
    ),
    "Lehoczky, RTSS 1990, two tasks, worst in the fifth activation": ([(70, 26), (100, 62)], True, [26, 118]),
    "Burns and Wellings, same chapter, set A: the first is late at 50": (
        [(30, 10), (40, 10), (50, 12)],
        True,
        [10, 20, 52],
    ),
    "Burns and Wellings, deadline-monotonic order, four processes": (
        [(20, 3), (15, 3), (10, 4), (20, 3)],
        True,
        [3, 6, 10, 20],
    ),
    "Liu, Real-Time Systems (2000), section 6.5, time-demand analysis": (
        [(3, 1), (5, "1.5"), (7, "1.25"), (9, "0.5")],
        True,
        [1, "2.5", "4.75", 9],
    ),
    "Liu, same book, figure 6-1": ([(4, 1), (5, 2), (20, 5)], True, [1, 3, 15]),
    "Liu, same book, figure 6-2": ([(2, "0.9"), (5, "2.3")], True, ["0.9", 5]),
    "Krishna and Shin, Real-Time Systems (1997), rate-monotonic example": (
        [(2, "0.5"), (6, 2), (10, "1.75")],
        True,
        ["0.5", 3, "5.25"],
    ),
    "Cottet, Delacroix, Kaiser, Mammeri, Scheduling in Real-Time Systems (2002), figure 2.5": (
        [(5, 2), (10, 2), (20, 3)],
        True,
        [2, 4, 9],
    ),
    "Cottet et al., same chapter, deadline-monotonic": ([(5, 2), (20, 3), (10, 2)], True, [2, 5, 9]),
    "Davis, Burns, Bril, Lukkien, Real-Time Systems 35 (2007), three messages, not preemptive": (
        [("2.5", 1), ("3.5", 1), ("3.5", 1)],
        False,
        [2, 3, "3.5"],
    ),
}


@pytest.mark.parametrize("source", EXAMPLES)
def test_worked_example(source):
    tasks, nesting, expected = EXAMPLES[source]
    found = bounds(task_set(tasks, nesting))
    worst = [found.isrs[f"t{i}"].response.most for i in range(len(tasks))]
    assert worst == [int(float(e) * MS) for e in expected]


def test_the_worst_activation_is_not_the_first():
    """Lehoczky 1990: responses 114, 102, 116, 104, 118, 106, 94 of the activations of one busy window."""
    assert bounds(task_set([(70, 26), (100, 62)])).isrs["t1"].response.activation == 5
    assert bounds(task_set([("2.5", 1), ("3.5", 1), ("3.5", 1)], nesting=False)).isrs["t2"].response.activation == 2


def test_an_overrun_is_found_where_the_utilisation_is_below_one():
    """Buttazzo, Hard Real-Time Computing Systems, chapter 4: C = 2, 4 and T = 5, 7: the second is late at time 7."""
    slow = bounds(task_set([(5, 2), (7, 4)])).isrs["t1"]
    assert slow.response.most >= 8 * MS
    assert slow.response.most > 7 * MS


def test_a_released_process_inherits_jitter():
    """Burns and Wellings, release jitter: a process of period 20 and response 15 releases another 5 apart at least.

    Tindell, Burns, Wellings (1994): the released one interferes as ceil((w + J) / T) times.
    """
    extra = '[isr.released]\non = "isr.t1.end"\nlevel = 0\ncost = "1 ms"\npending = 9\n'
    found = bounds(task_set([(100, 14), (20, "0.001")], extra=extra))
    curve = found.reach.events.curve("isr.t1.end")
    spread = found.isrs["t1"].response.most - found.isrs["t1"].response.least
    assert curve.least_span(2) == 20 * MS - spread
    assert curve.least_span(3) == 40 * MS - spread
    assert curve.most_within(2 * MS) == (2 * MS + spread) // (20 * MS) + 1


def test_jitter_is_added_to_the_response():
    """Tindell, Burns, Wellings (1994), equation of the level-i busy period: R = w + J, interference ceil((w + J)/T)."""
    found = bounds(task_set([(10, 2, 9), (50, 5, 4)]))
    # w = 5 + ceil((w + 9) / 10)·2: 5, 9, 9 -> and an event may be 4 late against its grid, which is its own affair
    assert found.isrs["t1"].response.most == 9 * MS


def test_offsets_are_ignored_soundly():
    """Liu and Layland (1973), theorem 1: no phasing is worse than the critical instant."""
    tasks = [(7, 3), (12, 3), (20, 5)]
    written = "".join(f'[variant.apart.source.s{i}]\noffset = "{i + 1} ms"\n' for i in range(3))
    plain, apart = (bounds(task_set(tasks, extra=written, variant=v)).isrs for v in (None, "apart"))
    assert [isr.response.most for isr in plain.values()] == [isr.response.most for isr in apart.values()]
    run = Run(task_set(tasks, extra=written, variant="apart"), RunOptions(costs="most"), 840 * MS, record=False)
    list(run.slices())
    seen = counted(run.memory, run.index)
    assert all(seen[f"isr.{name}.response"].most <= isr.response.most for name, isr in apart.items())


def bursty(count, inner, outer, length):
    """Tindell, Burns, Wellings (1994): a sporadically periodic task that begins with a whole burst, in [0, length)."""
    whole = length // outer
    return count * whole + min(count, -(-(length - whole * outer) // inner))


def test_bursts_count_as_sporadically_periodic_tasks():
    """Never fewer than the formula of the paper; more where a window that begins inside a burst holds more."""
    for count, inner, outer in [(2, 3, 10), (3, 2, 9), (4, 5, 40), (5, 1, 6)]:
        curve = Bursts(count, inner, outer)
        for length in range(1, 130):
            counted = most_before(curve, length)
            assert counted >= bursty(count, inner, outer, length)
            instants = [burst * outer + place * inner for burst in range(40) for place in range(count)]
            densest = max(sum(begin <= t < begin + length for t in instants) for begin in instants[: 3 * count])
            assert counted == densest
