"""Buffers: bounds by hand, two machines that share no code, random models that try to beat their bounds."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attack import Stocked
from boards import UNTIL, first, on_board
from planted import ANALYSER
from soak import Case
from tachys.demo.analyser import busy, pulses, steps
from tachys.demo.machine import Burns, Empties, Fills, Routine, Store, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.invariants import check_invariants
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.statistics import counted, levels, losses
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

US, MS = 10**6, 10**9
HEAD = 'tachys = 1\n[core]\nclock = "48 MHz"\nentry = "0 ns"\nexit = "0 ns"\n'
BYTE = '[source.byte]\nserial.baud = "57600 Bd"\n'
RING = HEAD + BYTE + (
    '[buffer.ring]\ndepth = {depth}\nfed_by = "source.byte"\n[loop]\noverhead = "10 us"\n'
    '[step.parse]\ndrains = "buffer.ring"\ncost = "20 us"\neach = "{each} us"\n[step.rest]\ncost = "{rest} us"\n'
)  # fmt: skip
LONG = 2 * 10**7


def of(text, name):
    return bounds(read_model(text, "m.toml")).buffers[name]


def test_a_ring_that_is_emptied_once_a_pass():
    # a byte each 173.611 us; a pass of 12.8 ms brings floor(12800 / 173.611) + 1 = 74, and to the leave of the first
    # (20 us for the look, 0.1 us for itself) still 74, since the 75th comes 12847.2 us after the first
    ring = of(RING.format(depth=64, each="0.1", rest=12800 - 30 - 7.4), "ring")
    assert (ring.taken, ring.level, ring.lost) == (64, 74, True)
    assert ring.reason == "74 can be in at once, 64 find room"
    text = RING.format(depth=75, each="0.1", rest=12800 - 30 - 7.4) + '[need.few]\nof = "buffer.ring"\nfill = {}\n'
    for fill, proved in ((74, True), (73, False)):
        few = bounds(read_model(text.format(fill), "m.toml")).needs["few"]
        assert (few.bound, few.proved) == (74, proved)
    assert not of(RING.format(depth=74, each="0.1", rest=12800 - 30 - 7.4), "ring").lost
    # 47.2 us are left from the end of the pass to the 75th byte: the look takes 20 us of them, an item more than the rest
    assert of(RING.format(depth=200, each="27.2", rest=12800 - 30 - 74 * 27.2), "ring").level == 74
    assert of(RING.format(depth=200, each="27.3", rest=12800 - 30 - 74 * 27.3), "ring").level == 75


FIFO = HEAD + BYTE + (
    '[buffer.rx]\ndepth = 16\nthreshold = 8\nquiet = "694.4 us"\nfed_by = "source.byte"\n'
    '[isr.rx]\non = "buffer.rx"\ncost = "5 us"\ndrains = "buffer.rx"\neach = "1 us"\n'
    '[need.routine]\nfrom = "source.byte"\nto = "isr.rx.end"\nwithin = "5 ms"\n'
)  # fmt: skip


def test_a_receive_fifo_with_a_threshold_and_a_quiet_time():
    found = bounds(read_model(FIFO, "m.toml"))
    rx, isr = found.buffers["rx"], found.isrs["rx"]
    assert (rx.level, rx.taken, rx.lost) == (8, 8, False)
    assert (isr.latency.most, isr.response.most, isr.lost) == (0, 13 * US, False)
    # seven that each come just before the buffer would ask, and the eighth that makes it
    assert rx.reaction.most == 7 * 694_400_000
    assert found.needs["routine"].bound == rx.reaction.most + 13 * US


def test_a_lone_byte_is_served_when_nothing_has_come_for_the_quiet_time():
    _, seen, _ = play_whole(read_model(FIFO.replace("serial", "mean = \"1 s\"\nserial"), "m.toml"),
                            RunOptions("most", "together", "mean", seed=1), 900 * MS)  # fmt: skip
    put = seen.time[seen.kind == at.ITEM_IN]
    assert seen.time[seen.kind == at.START][0] == put[0] + 694_400_000


PRINT = HEAD + (
    '[buffer.tx]\ndepth = 64\n[unit.tx]\ndrains = "buffer.tx"\ntakes = "1 ms"\n'
    '[loop]\noverhead = "1 us"\n[step.print]\nevery = "{every} ms"\ncost = "20 us"\n'
    'puts = {{ into = "buffer.tx", items = 80 }}\n'
)  # fmt: skip


@pytest.mark.parametrize(("every", "blocks"), [(1000, 15), (70, 80)])
def test_a_print_that_waits_for_its_line(every, blocks):
    # the line takes the first at once and the buffer 64 more: 15 wait; where the one before has just filled it, all 80
    system = read_model(PRINT.format(every=every), "m.toml")
    paper = bounds(system).steps["print"].duration
    assert paper.most == blocks * MS + 20 * US
    run, _, index = play_whole(system, RunOptions("most", "together", "gap"), 3 * 10**12)
    assert 0.8 * paper.most <= counted(run.memory, index)["step.print.duration"].most <= paper.most


def test_what_paper_says_of_rings_and_fifos_is_nearly_played():
    system = read_model(RING.format(depth=200, each="27.2", rest=12800 - 30 - 74 * 27.2), "m.toml")
    run, _, index = play_whole(system, RunOptions("most", "together", "gap"), 10**12)
    assert levels(run.memory, index)["ring"] == bounds(system).buffers["ring"].level == 74
    slow = read_model(FIFO.replace('serial.baud = "57600 Bd"', 'gap = "690 us"'), "m.toml")
    run, _, index = play_whole(slow, RunOptions("most", "together", "gap"), 10**12)
    assert counted(run.memory, index)["buffer.rx.time"].most > 0.98 * bounds(slow).buffers["rx"].time.most


# Le Boudec, Thiran, Network calculus, 2001, chapter 1: an arrival curve of b items at once and then one each 1/r meets
# a server of rate R after a latency T: backlog b + r T, delay T + b / R. A server that takes one item at a time, each in
# 1/R, and is busy with one as they come, has T = 1/R.
@pytest.mark.parametrize(("burst", "every", "takes"), [(4, 100, 20), (10, 1000, 90), (3, 50, 15), (7, 70, 10)])
def test_backlog_and_delay_are_those_of_network_calculus(burst, every, takes):
    text = (
        f'{HEAD}[source.s]\nburst = {{ count = {burst}, spaced = "1 ns", every = "{burst * every} us" }}\n'
        f'[buffer.b]\ndepth = 100\nfed_by = "source.s"\n[unit.u]\ndrains = "buffer.b"\ntakes = "{takes} us"\n'
    )
    found = of(text, "b")
    assert found.level == burst - 1  # the first is at work at once
    assert found.time.most == (burst - 1) * (takes * US - 1000)  # b / R, less what they come apart


@given(st.integers(0, 2**24), st.booleans())
def test_the_engine_and_the_stand_in_fill_and_empty_alike(seed, empties):
    system = read_model(Stocked(seed).small(empties=empties), "m.toml")
    if any(event.kind == "unit" for isr in system.isrs for event in isr.on):
        return
    assert_agreement(system, RunOptions("most", "drawn", "gap", seed=seed), LONG)


@given(st.integers(0, 2**24), st.booleans())
def test_no_play_beats_the_bounds_of_buffers(seed, empties):
    system = read_model(Stocked(seed).small(empties=empties), "m.toml")
    paper = bounds(system)
    for number, how in enumerate((("most", "together"), ("drawn", "drawn"))):
        run, _, index = play_whole(system, RunOptions(*how, "gap", seed=seed + number), LONG)
        check_invariants(run.memory)
        seen, deepest, lost = counted(run.memory, index), levels(run.memory, index), losses(run.memory, index)
        for measure, name, figure in paper.figures():
            most = seen[measure.name(name)].most
            assert figure.most is None or most <= figure.most, (measure, name)
        for name, found in paper.buffers.items():
            assert found.level is None or deepest[name] <= found.level
            assert found.lost or not lost[f"buffer.{name}"]


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        ('[buffer.b]\ndepth = 4\nfed_by = "source.byte"\n', "nothing drains it"),
        ('[buffer.b]\ndepth = 4\nthreshold = 5\nfed_by = "source.byte"\n', "it never asks: no more than 4 are ever in"),
        ('[buffer.b]\ndepth = 4\nfed_by = "source.bite"\n', 'did you mean "source.byte"?'),
        ('[buffer.b]\ndepth = 4\nfed_by = "source.byte"\nasks_each = 5\n', "it never asks: no more than 4 are ever in"),
        ('[buffer.b]\ndepth = 4\nfed_by = "source.byte"\nasks_each = 2\nthreshold = 2\n', "not yet beside asks_each"),
        ('[buffer.b]\ndepth = 4\nfed_by = "source.byte"\nkeeps = 2\n', "keeps: unknown key"),
        ('[buffer.b]\ndepth = 4\n[isr.b]\non = "buffer.b"\ncost = "1 us"\n', "who is asked by buffer.b drains it too"),
        ('[buffer.b]\ndepth = 4\nfed_by = "source.byte"\n[isr.b]\non = "source.byte"\ncost = "1 us"\n'
         'drains = "buffer.b"\n[unit.b]\ntakes = "1 us"\ndrains = "buffer.b"\n', "unit.b and isr.b drain it"),
    ],
)  # fmt: skip
def test_what_a_buffer_may_be(wrong, said):
    with pytest.raises(InputError) as told:
        read_model(HEAD + BYTE + wrong, "m.toml")
    assert said in str(told.value)


# --- boards whose lines say what their buffers do ----------------------------------------------------------------

UART = """
[source.byte]
serial.baud = "57600 Bd"
mean = "400 us"
[isr.byte]
on = "source.byte"
level = 1
cost = ["2 us", "3 us"]
[buffer.ring]
depth = 10
fed_by = "isr.byte.end"
[step.parse]
drains = "buffer.ring"
every = "1 ms"
cost = ["4 us", "6 us"]
each = ["9 us", "11 us"]
[need.whole]
of = "buffer.ring"
lost = 0
[need.shallow]
of = "buffer.ring"
fill = 8
[need.soon]
from = "source.byte"
to = "step.parse.end"
within = "3 ms"
[probe.D2]
shows = "isr.byte"
[probe.D3]
shows = "step.parse"
[probe.D4]
shows = "source.byte"
edge = "rise"
"""
FIFOS = """
[source.byte]
serial.baud = "57600 Bd"
mean = "400 us"
[buffer.rx]
depth = 8
threshold = 4
quiet = "600 us"
fed_by = "source.byte"
[isr.rx]
on = "buffer.rx"
level = 1
cost = ["2 us", "3 us"]
drains = "buffer.rx"
each = ["0.9 us", "1.2 us"]
[need.whole]
of = "buffer.rx"
lost = 0
[need.soon]
from = "source.byte"
to = "isr.rx.end"
within = "4 ms"
[probe.D2]
shows = "isr.rx"
[probe.D4]
shows = "source.byte"
edge = "rise"
"""
PRINTS = """
[buffer.tx]
depth = 16
[unit.tx]
drains = "buffer.tx"
takes = ["85 us", "88 us"]
[step.print]
every = "25 ms"
cost = ["8 us", "12 us"]
puts = { into = "buffer.tx", items = [8, 24] }
[probe.D2]
shows = "unit.tx.start"
edge = "rise"
[probe.D3]
shows = "unit.tx.end"
edge = "rise"
[probe.D4]
shows = "step.print"
"""


MOVES = (
    FIFOS.replace(
        "[need.whole]",
        """puts = { into = "buffer.ring", items = "drained" }
[buffer.ring]
depth = 16
[step.parse]
drains = "buffer.ring"
polls = "buffer.ring"
cost = ["4 us", "6 us"]
each = ["9 us", "11 us"]
[need.kept]
of = "buffer.ring"
lost = 0
[need.through]
from = "source.byte"
to = "step.parse.end"
within = "6 ms"
[need.whole]""",
    )
    + """
[probe.D3]
shows = "step.parse"
"""
)


def came(seed, mean):
    dice, at, found = random.Random(seed), 0, []
    while at < UNTIL:
        at += 173_700_000 + int(dice.expovariate(1 / mean)) if dice.random() < 0.3 else 173_700_000
        found.append(at)
    return found


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("blocking send", [("step.send", "time-longer")]),
        ("slow copies", [("step.parse", "each-longer")]),
        ("shallow ring", [("buffer.ring", "holds-less")]),
    ],
)
def test_who_lets_a_ring_run_over_is_named_first(fault, named, seed):
    each = (40 * US, 44 * US) if fault == "slow copies" else (9_300_000, 10_700_000)
    bytes_ = came(seed, 700 * US)
    depth = 3 if fault == "shallow ring" else 10
    task = Task("parse", (Burns((4_200_000, 5_700_000)), Empties("ring", 10, each)), every=1 * MS)
    rx = Routine("byte", 1, bytes_, (2_100_000, 2_900_000), puts="ring")
    result, truth = on_board(UART, seed, fault == "blocking send", [task], lambda truth: {
        "D2": busy(truth, "byte"), "D3": steps(truth, "parse"), "D4": pulses(bytes_, 30 * US)},
        routines=(rx,), stores=(Store("ring", depth),))  # fmt: skip
    assert first(result) == named, result.findings
    end = ANALYSER.begin + ANALYSER.length
    lost = [at for name, at in truth.lost if name == "ring" and ANALYSER.begin < at < end]
    assert result.buffers["ring"].lost <= len(lost)
    assert bool(lost) == (fault in ("blocking send", "shallow ring"))
    assert result.needs["whole"].count == result.buffers["ring"].lost
    if fault == "blocking send":
        assert result.buffers["ring"].lost > 0.8 * len(lost)
        assert result.needs["whole"].misses[0].causes[0].what == "step.send"
        assert str(result.needs["whole"].verdict) == str(result.needs["shallow"].verdict) == "missed"
        assert result.needs["shallow"].misses[0].causes[0].what == "step.send"
        assert result.needs["shallow"].count > result.needs["whole"].count
    elif fault == "shallow ring":
        assert str(result.needs["whole"].verdict) == "at risk"  # proved for the depth that is written
    else:
        assert result.buffers["ring"].level <= result.bounds.buffers["ring"].level or fault == "slow copies"


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize(
    ("fault", "named"),
    [("none", []), ("slow copies", [("isr.rx", "each-longer")]), ("slow", [("isr.rx", "cost-longer")])],
)
def test_a_fifo_with_a_routine_on_a_board(fault, named, seed):
    each = (4 * US, 5 * US) if fault == "slow copies" else (950_000, 1_150_000)
    cost = (9 * US, 10 * US) if fault == "slow" else (2_100_000, 2_900_000)
    bytes_ = came(seed, 900 * US)
    rx = Routine("rx", 1, (), cost, asked="rx", empties=Empties("rx", 8, each))
    stores = (Store("rx", 8, bytes_, 4, (600 * US, 600 * US)),)
    result, _ = on_board(FIFOS, seed, False, [], lambda truth: {"D2": busy(truth, "rx"), "D4": pulses(bytes_, 30 * US)},
                         routines=(rx,), stores=stores)  # fmt: skip
    assert first(result) == named, result.findings
    assert result.needs["soon"].seen.count > 100
    assert result.needs["soon"].seen.most <= result.needs["soon"].bound
    assert result.buffers["rx"].lost == 0


@pytest.mark.parametrize("seed", range(1))
@pytest.mark.parametrize(
    ("fault", "named"),
    [("none", []), ("longer text", [("step.print", "time-longer")]), ("slow line", [("unit.tx", "takes-longer")])],
)
def test_a_print_on_a_board(fault, named, seed):
    items = (40, 60) if fault == "longer text" else (9, 23)
    takes = (140 * US, 150 * US) if fault == "slow line" else (86 * US, 87 * US)
    task = Task("print", (Burns((8_300_000, 11_600_000)), Fills("tx", items)), every=25 * MS)
    result, _ = on_board(PRINTS, seed, False, [task], lambda truth: {
        "D2": pulses([begin for _, begin, _ in truth.sent], 20 * US), "D4": steps(truth, "print"),
        "D3": pulses([end for _, _, end in truth.sent], 20 * US)}, stores=(Store("tx", 16, sent_in=takes),))  # fmt: skip
    assert first(result) == named, result.findings


@pytest.mark.parametrize("seed", range(1))
@pytest.mark.parametrize(
    ("fault", "named"),
    [("none", []), ("blocking send", [("step.send", "time-longer")]), ("slow copies", [("step.parse", "each-longer")])],
)
def test_what_a_routine_moves_on_from_a_fifo_to_a_ring(fault, named, seed):
    each = (40 * US, 44 * US) if fault == "slow copies" else (9_300_000, 10_700_000)
    bytes_ = came(seed, 700 * US)
    rx = Routine(
        "rx", 1, (), (2_100_000, 2_900_000), asked="rx", moves="ring", empties=Empties("rx", 8, (950_000, 1_150_000))
    )
    task = Task("parse", (Burns((4_200_000, 5_700_000)), Empties("ring", 16, each)), asked="ring")
    stores = (Store("rx", 8, bytes_, 4, (600 * US, 600 * US)), Store("ring", 16))
    result, _ = on_board(MOVES, seed, fault == "blocking send", [task], lambda truth: {
        "D2": busy(truth, "rx"), "D3": steps(truth, "parse"), "D4": pulses(bytes_, 30 * US)},
        routines=(rx,), stores=stores)  # fmt: skip
    assert first(result) == named, result.findings
    assert result.needs["through"].seen.count > 100
    assert result.needs["through"].seen.most <= result.needs["through"].bound or fault != "none"
    assert result.buffers["ring"].level >= 4


def test_needs_of_two_sources_follow_their_own_items_in_one_buffer():
    text = (
        f'{HEAD}levels = 2\n[source.a]\nevery = "90 us"\n[source.b]\ngap = "130 us"\n[isr.b]\non = "source.b"\n'
        'level = 1\ncost = ["1 us", "4 us"]\n[buffer.both]\ndepth = 6\n'
        'fed_by = [{ event = "source.a", items = 2 }, "isr.b.end"]\n'
        '[loop]\noverhead = "2 us"\n[step.use]\ndrains = { from = "buffer.both", most = 4 }\ncost = "3 us"\n'
        'each = ["1 us", "9 us"]\n[step.rest]\nevery = "400 us"\ncost = "20 us"\n'
        '[need.a]\nfrom = "source.a"\nto = "step.use.end"\nwithin = "120 us"\n'
        '[need.b]\nfrom = "source.b"\nto = "step.use.end"\nwithin = "100 us"\n'
    )
    case = Case(text)
    for seed in range(12):
        case.play(random.Random(seed))
    assert case.wrong == []  # a second judge counts the same misses, and no bound is beaten
    assert case.paper.needs["a"].bound != case.paper.needs["b"].bound
    assert case.paper.needs["a"].proved


def test_items_of_two_sources_in_one_buffer_follow_their_own():
    # a's come at 0, 100, 200 us ..., b's two at 30, 330 us ...; the routine takes what is in at 40, 140, 240 us ...: 10 us
    # before its body, 20 us a body of 2 us first and 4 us an item
    text = (
        'tachys = 1\n[core]\nclock = "1 GHz"\nentry = "10 us"\nexit = "0 ns"\n[source.a]\nevery = "100 us"\noffset = "0 us"\n'
        '[source.b]\nevery = "300 us"\noffset = "30 us"\n[source.t]\nevery = "100 us"\noffset = "40 us"\n'
        '[buffer.q]\ndepth = 8\nfed_by = ["source.a", { event = "source.b", items = 2 }]\n'
        '[isr.q]\non = "source.t"\ndrains = "buffer.q"\ncost = "2 us"\neach = "4 us"\n'
        '[need.a]\nfrom = "source.a"\nto = "isr.q.end"\nwithin = "200 us"\n'
        '[need.b]\nfrom = "source.b"\nto = "isr.q.end"\nwithin = "200 us"\n'
    )
    system = read_model(text, "m.toml")
    result = simulate(system, 900 * US, RunOptions("most", "together", "gap"))
    a, b = (result.needs[name].seen for name in "ab")
    # a's alone: taken at 50, gone at 50 + 2 + 4; with b's two: 50 + 2 + 12; b's came 30 us after
    assert (a.least, a.most) == (56 * US, 64 * US)
    assert (b.least, b.most) == (34 * US, 34 * US)
    paper = bounds(system)
    assert (paper.needs["a"].figure.most, paper.needs["b"].figure.most) >= (64 * US, 34 * US)
    assert paper.buffers["q"].level >= 3


REQUESTED = (
    HEAD.replace("entry", "levels = 2\nentry")
    + """
[source.sample]
every = "100 us"
[isr.sample]
on = "source.sample"
level = 0
cost = ["4 us", "5 us"]
[buffer.ring]
depth = 15
fed_by = "isr.sample.end"
threshold = 4
[isr.filter]
on = "buffer.ring"
level = 1
cost = "20 us"
each = "10 us"
drains = { from = "buffer.ring", most = 8 }
sets = ["ready"]
[loop]
overhead = "1 us"
[step.weigh]
polls = "ready"
cost = ["10 us", "30 us"]
[need.fed]
from = "step.weigh.end"
to = "isr.filter.start"
within = "600 us"
[need.weighed]
from = "isr.sample.start"
to = "step.weigh.start"
within = "600 us"
"""
)


def test_how_long_a_routine_stays_away_that_a_buffer_asks_for():
    """Four samples from any instant on ask for it, once a run has ended that may be about to take what is in.

    Such a run ends 65 us behind its request: 60 of its own with four items, 5 of a sample on top. A sample is put
    within 105 us of any instant, and one may come as it asks: 5 us more until it begins.
    """
    system = read_model(REQUESTED, "m.toml")
    paper = bounds(system)
    assert paper.reach.gap("isr.filter.start") == (65 + 4 * 105 + 5) * US
    assert paper.needs["fed"].proved
    interval = paper.steps["weigh"].interval
    most = simulate(system, 200 * MS).stats("step.weigh.interval").most
    assert most <= interval.most
    assert most >= 0.75 * interval.most
