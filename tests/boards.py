"""A small board around what a test is about: a wheel that interrupts and a step that sends, which may block."""

import random

from planted import ANALYSER, CYCLE, MS, US, _apart
from tachys.capture.table import Capture, make_signal
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.analyser import Recording, busy, pulses, steps, to_vcd
from tachys.demo.machine import Burns, Machine, Pauses, Plan, Routine, Task
from tachys.model.loading import read_model

BOARD = """
tachys = 1
[core]
clock = "48 MHz"
tolerance = "50 ppm"
levels = 2
entry = "16 cycles"
exit = "12 cycles"
[source.wheel]
gap = "300 us"
[isr.wheel]
on = "source.wheel"
level = 0
cost = ["6 us", "9 us"]
[capture]
tolerance = "50 ppm"
[probe.D0]
shows = "source.wheel"
edge = "rise"
[probe.D1]
shows = "isr.wheel"
[loop]
overhead = "40 cycles"
[step.send]
every = "20 ms"
cost = ["8 us", "12 us"]
pause = "25 us"
[probe.D5]
shows = "step.send"
"""
UNTIL = ANALYSER.begin + ANALYSER.length + 5 * MS


def on_board(more, seed, blocks, tasks, lines, *, latches=(), routines=(), stores=(), tallies=(), replies=(),
             analyser=ANALYSER):  # fmt: skip
    """(what a check says of a board with these tasks behind one that sends, its truth); ``lines`` of that truth."""
    wheel = list(_apart(random.Random(seed), UNTIL, 310 * US, 900 * US))
    sends = Task("send", (Burns((8_300_000, 11_600_000)), Pauses((2 * MS, 3 * MS) if blocks else (25 * US, 25 * US))),
                 every=20 * MS)  # fmt: skip
    plan = Plan((Routine("wheel", 0, wheel, (6_400_000, 8_600_000)), *routines), (sends, *tasks), 38 * CYCLE, True,
                15 * CYCLE, 12 * CYCLE, 27 * CYCLE, latches=latches, stores=stores, tallies=tallies, replies=replies)  # fmt: skip
    truth = Machine(plan, seed).run(UNTIL)
    shown = {"D0": pulses(wheel, 30 * US), "D1": busy(truth, "wheel"), "D5": steps(truth, "send")} | lines(truth)
    seen = Recording({name: analyser.sampled(levels) for name, levels in shown.items()}, analyser, truth)
    return check(read_model(BOARD + more, "m.toml"), read_vcd([to_vcd(seen).encode()], "board.vcd")), truth


def first(result):
    """The finding that stands first: of what, and which."""
    return [(each.about, each.code) for each in result.findings][:1]


def capture_of(highs, end):
    """Lines that are high for spans (from, to) in ps, until ``end``, as an analyser of 10 MHz has them."""
    lines = {
        name: make_signal(name, 1, [0, *(at for span in spans for at in span)], [0, *[1, 0] * len(spans)])
        for name, spans in highs.items()
    }
    return Capture("lines.vcd", lines, 0, end, 100_000)
