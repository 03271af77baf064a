"""A transmitter that interrupts while it has room: a routine moves what is printed from a ring into its buffer."""

import random

import pytest

from boards import UNTIL, first, on_board
from planted import MS, _apart
from tachys.demo.analyser import busy, pulses, steps
from tachys.demo.machine import Burns, Empties, Fills, Routine, Store, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

NS = 1000
MOST = RunOptions("most", "together", "gap")
PRINT = (
    'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\nentry = "10 ns"\nexit = "10 ns"\n'
    '[buffer.ring]\ndepth = 8\n[buffer.hw]\ndepth = {hw}\n[unit.hw]\ndrains = "buffer.hw"\ntakes = "1 us"\n'
    '[isr.tx]\non = "buffer.ring"\nlevel = 1\ndrains = {{ from = "buffer.ring", most = {most} }}\n'
    'puts = {{ into = "buffer.hw", items = "drained", full = "wait" }}\ncost = "100 ns"\n'
    '[loop]\noverhead = "10 ns"\n'
    '[step.print]\nevery = "{every} us"\ncost = "20 ns"\nputs = {{ into = "buffer.ring", items = 12 }}\n'
)


def printing(hw=1, most=1, every=100, more=""):
    return read_model(PRINT.format(hw=hw, most=most, every=every) + more, "m.toml")


def times(system, kind, until):
    _, seen, _ = play_whole(system, MOST, until * NS)
    return [int(time) // NS for time in seen.time[seen.kind == kind]]


def test_a_register_is_written_while_it_has_room():
    # 8 go in at once; the first run's moves on into the line at rest, the second's waits in the register; each later
    # run follows the line as that takes one up: entry 10, body 100, and the loop looks after the exit
    system = printing()
    starts = times(system, at.START, 120_000)
    begun = times(system, at.STEP_START, 120_000)[0]
    put = begun + 20
    assert [each - put for each in starts[:5]] == [10, 130, 1120, 2120, 3120]
    assert times(system, at.STEP_END, 120_000)[0] - put == 2230
    assert times(system, at.ITEM_LOST, 300_000) == []


def test_as_many_are_moved_as_have_room():
    # the first run takes 4, of which one goes on at once; the second one; then 4 are in, and each that goes makes room
    system = printing(hw=4, most=8)
    _, seen, index = play_whole(system, MOST, 120_000 * NS)
    ring = index.buffers.index("ring")
    taken = seen.time[(seen.kind == at.ITEM_TAKEN) & (seen.index == ring)] // NS
    put = times(system, at.STEP_START, 120_000)[0] + 20
    assert [int(each) - put for each in taken] == [10, 10, 10, 10, 130, 1120, 2120, 3120, 4120, 5120, 6120, 7120]


@pytest.mark.parametrize(("hw", "most"), [(1, 1), (4, 8), (4, 2), (3, 1)])
def test_the_print_blocks_no_longer_than_its_bound(hw, most):
    for every, near in ((100, 0.8 if hw == 1 else 0), (13, 0), (9, 0.8)):  # 12 at rest, hardly, behind 12 others
        system = printing(hw, most, every)
        paper = bounds(system)
        longest = paper.steps["print"].duration.most
        run = times(system, at.STEP_START, 2_000_000), times(system, at.STEP_END, 2_000_000)
        played = max(end - start for start, end in zip(*run, strict=False))
        assert longest is not None
        assert near * longest <= played * NS <= longest
        assert [(paper.buffers[name].level, paper.buffers[name].lost) for name in ("ring", "hw")] == [
            (8, False), (hw, False),
        ]  # fmt: skip


def test_what_comes_into_the_ring_by_itself_has_a_bound():
    # a block of 8 each 20 us; each waits for the line, 1 us, for those before it, and for its run
    more = (
        '[source.block]\nevery = "20 us"\n[need.sent]\nfrom = "source.block"\nto = "unit.hw.start"\nwithin = "15 us"\n'
    )
    text = PRINT.format(hw=1, most=1, every=100).partition("[step.print]")[0]
    text = text.replace("depth = 8\n", 'depth = 8\nfed_by = { event = "source.block", items = 8 }\n', 1)
    system = read_model(text + '[step.idle]\ncost = "1 us"\n' + more, "m.toml")
    paper = bounds(system)
    assert not paper.buffers["ring"].lost
    assert paper.buffers["ring"].level == 8
    most = paper.needs["sent"].figure.most
    _, seen, _ = play_whole(system, MOST, 2_000_000 * NS)
    begun = seen.time[seen.kind == at.UNIT_START]
    blocks = seen.time[seen.kind == at.SOURCE]
    played = max(int(last - block) for block, last in zip(blocks, begun[7::8], strict=False))
    assert 0.75 * most <= played <= most


def test_both_machines_agree():
    for hw, most in ((1, 1), (4, 8), (3, 2)):
        more = '[source.a]\nevery = "731 ns"\n[isr.a]\non = "source.a"\ncost = "170 ns"\n'
        assert_agreement(printing(hw, most, 11, more), MOST, 500_000 * NS)


@pytest.mark.parametrize(("change", "told"), [
    (('on = "buffer.ring"', 'on = "unit.hw"'), "the routine is asked by buffer.ring alone"),
    (("depth = 8", "depth = 8\nthreshold = 4"), "asks while anything is in"),
    (('[unit.hw]\ndrains = "buffer.hw"', '[source.s]\nevery = "3 us"\n[unit.hw]\non = "source.s"\ndrains = "buffer.hw"'),
     "takes one whenever it is at rest"),
    (('items = 12 }', 'items = 12, full = "wait" }'), "a step waits for room by itself"),
])  # fmt: skip
def test_what_cannot_wait_is_refused(change, told):
    text = PRINT.format(hw=1, most=1, every=100)
    assert change[0] in text
    with pytest.raises(InputError, match=told):
        read_model(text.replace(*change), "m.toml")


BOARD = """
[buffer.ring]
depth = 64
[buffer.line]
depth = 1
[unit.line]
drains = "buffer.line"
takes = ["85 us", "88 us"]
[isr.tx]
on = "buffer.ring"
level = 1
drains = { from = "buffer.ring", most = 1 }
puts = { into = "buffer.line", items = "drained", full = "wait" }
cost = ["2 us", "3 us"]
[step.print]
every = "50 ms"
cost = ["15 us", "20 us"]
puts = { into = "buffer.ring", items = [60, 80] }
[need.printed]
from = "step.print.start"
to = "step.print.end"
within = "7 ms"
[probe.D2]
shows = "isr.tx"
[probe.D3]
shows = "step.print"
[probe.D4]
shows = "unit.line.start"
edge = "rise"
[probe.D6]
shows = "unit.line.end"
edge = "rise"
"""
US = 10**6


@pytest.mark.parametrize(("fault", "named"), [
    ("none", []),
    ("slow routine", [("isr.tx", "cost-longer")]),
    ("slow line", [("unit.line", "takes-longer")]),
    ("longer text", [("step.print", "time-longer")]),
])  # fmt: skip
def test_it_waits_on_a_board(fault, named):
    cost = (9 * US, 10 * US) if fault == "slow routine" else (2_100_000, 2_900_000)
    takes = (104 * US, 105 * US) if fault == "slow line" else (85_500_000, 87_500_000)
    text = (200, 210) if fault == "longer text" else (60, 80)
    send = Routine("tx", 1, (), cost, moves="line", asked="ring", empties=Empties("ring", 1), waits=True)
    prints = Task("print", (Burns((15_500_000, 19_500_000)), Fills("ring", text)), every=50 * MS)
    result, _ = on_board(BOARD, 1, False, (prints,), lambda truth: {
        "D2": busy(truth, "tx"), "D3": steps(truth, "print"),
        "D4": pulses([begin for _, begin, _ in truth.sent], 20 * US),
        "D6": pulses([end for _, _, end in truth.sent], 20 * US)},
        routines=(send,), stores=(Store("ring", 64), Store("line", 1, sent_in=takes)))  # fmt: skip
    assert first(result) == named, result.findings


def test_a_ring_that_a_slow_line_fills_is_not_blamed_on_what_ran():
    print_ = '[step.print]\nevery = "50 ms"\ncost = ["15 us", "20 us"]\n'
    text = BOARD.replace("[buffer.ring]\ndepth = 64\n", '[buffer.ring]\ndepth = 16\nfed_by = "source.byte"\n')
    text = (
        text.partition("[step.print]")[0] + print_ + '[source.byte]\ngap = "90 us"\n' + text[text.index("[probe.D2]") :]
    )
    text += '[need.whole]\nof = "buffer.ring"\nlost = 0\n[probe.D7]\nshows = "source.byte"\nedge = "rise"\n'
    came = list(_apart(random.Random(3), UNTIL, 91 * US, 140 * US))
    send = Routine(
        "tx", 1, (), (2_100_000, 2_900_000), moves="line", asked="ring", empties=Empties("ring", 1), waits=True
    )
    prints = Task("print", (Burns((15_500_000, 19_500_000)),), every=50 * MS)
    result, _ = on_board(text, 1, False, (prints,), lambda truth: {
        "D2": busy(truth, "tx"), "D3": steps(truth, "print"), "D7": pulses(came, 20 * US),
        "D4": pulses([begin for _, begin, _ in truth.sent], 20 * US),
        "D6": pulses([end for _, _, end in truth.sent], 20 * US)},
        routines=(send,), stores=(Store("ring", 16, came), Store("line", 1, sent_in=(150 * US, 151 * US))))  # fmt: skip
    assert first(result) == [("unit.line", "takes-longer")]
    assert [cause for miss in result.needs["whole"].misses for cause in miss.causes] == []
    filled = result.board.buffers["ring"]
    assert filled.level_steps()[1].max() == filled.deepest == 16
