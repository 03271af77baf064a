"""Buffers that a transfer channel fills round and round: asked for each half, overwritten where a run is late."""

import pytest

from boards import UNTIL, first, on_board
from planted import ANALYSER, MS
from tachys.demo.analyser import busy, pulses
from tachys.demo.machine import Burns, Empties, Hold, Routine, Store, Task
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted, levels, losses
from tachys.worstcase.analysis import bounds

US = 10**6
# a conversion each 10 us, moved into 64 places; each 32nd asks, and the routine copies its half in 2 + 32 us. The bus
# routine holds it off, and begins just as a half is full.
HALVES = (
    'tachys = 1\n[core]\nclock = "48 MHz"\nlevels = 2\nentry = "0 ns"\nexit = "0 ns"\n'
    '[source.sample]\nevery = "10 us"\noffset = "0 us"\n[source.bus]\nevery = "96 ms"\noffset = "310 us"\n'
    '[isr.bus]\non = "source.bus"\ncost = "{late} us"\n'
    '[buffer.samples]\ndepth = 64\nfed_by = "source.sample"\nasks_each = 32\nfull = "{full}"\n'
    '[isr.half]\non = "buffer.samples"\nlevel = 1\ncost = "2 us"\neach = "1 us"\n'
    'drains = {{ from = "buffer.samples", most = 32 }}\n'
)


def halves(late, full="overwrite"):
    return read_model(HALVES.format(late=late, full=full), "m.toml")


def test_a_half_has_the_time_of_the_other_half():
    # the 33rd conversion behind a request, 330 us later, overwrites the first of the half: that leaves after late + 3 us
    paper = bounds(halves(326))
    samples = paper.buffers["samples"]
    assert (samples.level, samples.taken, samples.lost) == (64, 32, False)
    assert samples.reaction.most == (310 + 326) * US  # the first waits for 31 more, then for the bus routine
    assert paper.isrs["half"].response.most == (326 + 34) * US
    late = bounds(halves(327)).buffers["samples"]  # at one instant either may come first
    assert (late.level, late.lost, late.reason) == (65, True, "65 can be in at once, 64 find room")


@pytest.mark.parametrize("full", ["overwrite", "lose"])
def test_what_is_late_is_played(full):
    system = halves(326, full)
    run, _, index = play_whole(system, RunOptions("most", "together", "gap"), 10**12)
    assert (levels(run.memory, index)["samples"], losses(run.memory, index)["buffer.samples"]) == (64, 0)
    # late by 340 us: at 330 and 340 us the first two are overwritten, and copied all the same
    run, seen, index = play_whole(halves(340, full), RunOptions("most", "together", "gap"), 90 * 10**9)
    assert losses(run.memory, index)["buffer.samples"] == 2
    lost = seen.kind == (at.ITEM_OVER if full == "overwrite" else at.ITEM_LOST)
    first = 310 * US
    assert list(seen.time[lost]) == [first + 330 * US, first + 340 * US]
    assert list(seen.cause[lost]) == ([0, 10 * US] if full == "overwrite" else list(seen.time[lost]))
    assert counted(run.memory, index)["isr.half.span"].most == 34 * US


def test_a_receiver_is_asked_each_half_and_when_the_line_is_quiet():
    text = (
        'tachys = 1\n[core]\nclock = "48 MHz"\nentry = "0 ns"\nexit = "0 ns"\n[source.byte]\ngap = "80 us"\n'
        '[buffer.rx]\ndepth = 64\nfed_by = "source.byte"\nasks_each = 32\nquiet = "300 us"\nfull = "overwrite"\n'
        '[isr.rx]\non = "buffer.rx"\ncost = "3 us"\neach = "1 us"\ndrains = "buffer.rx"\n'
    )
    paper = bounds(read_model(text, "m.toml"))
    rx = paper.buffers["rx"]
    # 31 that do not ask, one that does; no more comes within 3 + 32 us
    assert (rx.level, rx.taken, rx.lost) == (32, 32, False)
    # 31 that each come just before the line is quiet for long enough, then the one that makes it ask
    assert rx.reaction.most == 31 * 300 * US
    assert paper.isrs["rx"].response.most == 35 * US


BOARD = """
[source.sample]
every = "40 us"
[buffer.samples]
depth = 64
fed_by = "source.sample"
asks_each = 32
full = "overwrite"
[isr.half]
on = "buffer.samples"
level = 1
cost = ["2 us", "3 us"]
drains = { from = "buffer.samples", most = 32 }
each = ["0.9 us", "1.2 us"]
[need.whole]
of = "buffer.samples"
lost = 0
[need.soon]
from = "source.sample"
to = "isr.half.end"
within = "2 ms"
[probe.D2]
shows = "isr.half"
[probe.D4]
shows = "source.sample"
edge = "rise"
"""


@pytest.mark.parametrize("seed", range(1))
@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("slow copies", [("isr.half", "cost-longer")]),  # each run takes 32: which of the two it is cannot be told
        ("slow", [("isr.half", "cost-longer")]),
        ("late", [("buffer.samples", "items-lost")]),
        ("asks when all are in", [("buffer.samples", "level-more")]),
    ],
)
def test_a_transfer_buffer_on_a_board(fault, named, seed):
    each = (4 * US, 5 * US) if fault == "slow copies" else (950_000, 1_150_000)
    cost = (9 * US, 10 * US) if fault == "slow" else (2_100_000, 2_900_000)
    samples = list(range(17 * US, UNTIL, 40 * US))
    half = Routine("half", 1, (), cost, asked="samples", empties=Empties("samples", 32, each))
    laps = 64 if fault == "asks when all are in" else 32
    held = ()
    if fault == "late":  # something in the loop holds it off for longer than the other half takes
        held = (Task("flash", (Burns((1_800 * US, 1_900 * US), (Hold(1, 0, None),)),), every=30 * MS),)
    result, truth = on_board(BOARD, seed, False, held, lambda truth: {
        "D2": busy(truth, "half"), "D4": pulses(samples, 10 * US)},
        routines=(half,), stores=(Store("samples", 64, samples, None, laps=laps, round=True),))  # fmt: skip
    lost = sum(name == "samples" and ANALYSER.begin < at < ANALYSER.begin + ANALYSER.length for name, at in truth.lost)
    assert first(result) == named, result.findings
    assert result.buffers["samples"].lost <= lost
    assert (result.buffers["samples"].lost > 0.8 * lost) == (lost > 0)
