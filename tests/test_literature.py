"""Worked examples of response-time analysis from the open literature, to the digit.

Times of the papers are written as milliseconds here; a task is a line of its own level, the overheads are 0.
"""

import pytest

from tachys.bounds.analysis import bounds
from tachys.model.loading import read_model

MS = 10**9


def task_set(tasks, nesting=True, extra=""):
    """tasks: (period, cost[, jitter]) in ms, most urgent first."""
    text = f'tachys = 1\n[core]\nclock = "1 MHz"\nlevels = {len(tasks)}\nentry = "0 s"\nexit = "0 s"\n'
    text += f"nesting = {str(nesting).lower()}\n"
    for level, (period, cost, *jitter) in enumerate(tasks):
        text += f'[source.s{level}]\nevery = "{period} ms"\n'
        text += f'jitter = "{jitter[0]} ms"\n' if jitter else ""
        text += f'[isr.t{level}]\non = "source.s{level}"\nlevel = {level}\ncost = "{cost} ms"\npending = 9\n'
    return read_model(text + extra, "literature")


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
