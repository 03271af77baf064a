"""What drains until nothing is in: what comes while others are copied is taken too, by the same run."""

import random

import pytest

from boards import capture_of, first, on_board
from planted import ANALYSER, US, _apart
from tachys.checking.checking import check
from tachys.demo.analyser import busy, pulses, steps
from tachys.demo.machine import Burns, Empties, Routine, Store, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds

HEAD = """
tachys = 1
[core]
clock = "48 MHz"
entry = "0 ns"
exit = "0 ns"
[source.byte]
"""
MODEL = (
    HEAD
    + """
gap = "10 us"
[buffer.ring]
depth = 32
fed_by = "source.byte"
[loop]
overhead = "10 us"
[step.parse]
drains = {drains}
cost = "20 us"
each = "{each} us"
[need.taken]
from = "source.byte"
to = "step.parse.start"
within = "1 ms"
[need.done]
from = "source.byte"
to = "step.parse.end"
within = "1 ms"
"""
)
UNTIL = '{ from = "buffer.ring", until = "empty" }'


def model(each, drains=UNTIL):
    return read_model(MODEL.format(each=each, drains=drains), "m.toml")


def test_by_hand_and_played_to_the_bound():
    # from the last leave of a run: 10 us of overhead and 20 of cost, and 4 for each that it takes; the n-th byte behind
    # that leave has come if 10 (n - 1) < 30 + 4 n: five are taken, four of them in as the first leaves, 34 us after it
    found = bounds(model(4))
    ring, parse = found.buffers["ring"], found.steps["parse"]
    assert (ring.taken, ring.level, ring.lost) == (5, 4, False)
    assert parse.duration.most == (20 + 5 * 4) * US
    assert (ring.reaction.most, ring.time.most) == (10 * US, (10 + 40) * US)
    text = MODEL.format(each=4, drains=UNTIL).replace('gap = "10 us"', 'gap = "10 us"\nmean = "10.5 us"')
    played = simulate(read_model(text, "m.toml"), 200_000 * US, RunOptions(costs="most"))
    assert played.counted["step.parse.duration"].most == parse.duration.most
    assert played.levels["ring"] == ring.level
    assert 0.99 * ring.reaction.most < played.needs["taken"].value <= ring.reaction.most
    assert 0.99 * ring.time.most < played.needs["done"].value <= ring.time.most


def test_what_comes_as_fast_as_it_is_taken_has_no_end():
    found = bounds(model(10))
    assert found.steps["parse"].duration.reason == "as much can come into buffer.ring as step.parse takes meanwhile"
    assert found.buffers["ring"].lost


def test_the_next_run_is_not_for_the_next_item():
    """That may be taken by the run at work: so a pass with all that it can have lies between two starts, 151 ns."""
    text = (
        'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 4\nentry = "2 ns"\nexit = "1 ns"\nchain = "5 ns"\n[source.t]\n'
        'every = "742 ns"\n[source.b]\nevery = "40 ns"\n[isr.t]\non = "source.t"\nlevel = 0\ncost = "36 ns"\n[loop]\n'
        'overhead = "3 ns"\n[step.b]\ndrains = { from = "buffer.b", until = "empty" }\neach = "0 ns"\ncost = "50 ns"\n'
        'polls = "buffer.b"\n[step.rest]\ncost = "59 ns"\n[buffer.b]\ndepth = 12\nfed_by = "source.b"\n'
    )
    interval = bounds(read_model(text, "m.toml")).steps["b"].interval.most
    played = simulate(read_model(text, "m.toml"), 300 * US, RunOptions(costs="most")).counted["step.b.interval"].most
    assert played == 151_000 <= interval < 1.6 * played


@pytest.mark.parametrize(
    ("more", "says"),
    [
        (', most = 3 }\ncost = "1 us"', "takes all that comes, and most only so many"),
        (' }\ncost = "1 us"\n[buffer.ring]\nfull = "overwrite"', 'not yet with full = "overwrite"'),
        (' }\ncost = "1 us"\n[isr.rx]\non = "buffer.other"\ncost = "1 us"\ndrains = { from = "buffer.other", until = "empty" '
         '}\nputs = { into = "buffer.line", items = "drained", full = "wait" }\n[buffer.other]\ndepth = 2\n'
         'fed_by = "source.byte"\n[buffer.line]\ndepth = 2\n[unit.line]\ndrains = "buffer.line"\ntakes = "9 us"',
         'not yet with full = "wait"'),
    ],
)  # fmt: skip
def test_what_is_refused_by_name(more, says):
    ring = '[buffer.ring]\ndepth = 4\nfed_by = "source.byte"\n'
    joined = '[buffer.ring]\nfull = "overwrite"'
    text = ('tachys = 1\n[core]\nclock = "48 MHz"\n[source.byte]\ngap = "10 us"\n[loop]\noverhead = "10 us"\n'
            '[step.parse]\ndrains = { from = "buffer.ring", until = "empty"' + more + "\n")  # fmt: skip
    text = text.replace(joined, ring + 'full = "overwrite"') if joined in text else text + ring
    with pytest.raises(InputError) as error:
        read_model(text, "m.toml")
    assert says in str(error.value)


ROUTINE = (
    HEAD
    + """{comes}
[buffer.fifo]
depth = 32
fed_by = "source.byte"
{asks}
[isr.rx]
on = "buffer.fifo"
drains = {{ from = "buffer.fifo", until = "empty" }}
cost = "{cost} us"
each = "{each} us"
[need.taken]
from = "source.byte"
to = "isr.rx.start"
within = "1 ms"
[need.done]
from = "source.byte"
to = "isr.rx.end"
within = "1 ms"
"""
)

BURST = 'burst = { count = 6, spaced = "3 us", every = "200 us" }'
APART = 'gap = "10 us"\nmean = "10.2 us"'


def routine(comes=BURST, asks="", cost=6, each=4):
    return ROUTINE.format(comes=comes, asks=asks, cost=cost, each=each)


@pytest.mark.parametrize(
    ("text", "taken", "level", "reaction", "time"),
    [
        # the first leaves after 10 us, when four have come; the last, put at 15, after 30: before any other of its batch
        (routine(), 6, 4, 0, 15),
        (routine(cost=20, each=0), 6, 6, 0, 20),
        # asked by the fourth: 20 us and 3 for each, until 3 + the 5 of 44 us are taken; three wait for so long as it is
        (routine(APART, 'threshold = 4\nquiet = "300 us"', 20, 3), 8, 6, 3 * 300, 3 * 300 + 44),
        (routine(APART, 'asks_each = 4\nquiet = "300 us"', 20, 3), 8, 6, 3 * 300, 3 * 300 + 44),
    ],
)
def test_a_routine_by_hand_and_played_to_the_bound(text, taken, level, reaction, time):
    found = bounds(read_model(text, "m.toml"))
    fifo, rx = found.buffers["fifo"], found.isrs["rx"]
    assert (fifo.taken, fifo.level, fifo.lost) == (taken, level, False)
    assert (fifo.reaction.most, fifo.time.most, rx.lost) == (reaction * US, time * US, False)
    played = simulate(read_model(text, "m.toml"), 400_000 * US, RunOptions(costs="most"))
    assert played.counted["isr.rx.response"].most == rx.response.most
    assert played.levels["fifo"] == fifo.level
    assert played.needs["taken"].value <= fifo.reaction.most
    assert played.needs["done"].value <= found.needs["done"].figure.most
    if not reaction:
        assert played.counted["buffer.fifo.time"].most == fifo.time.most
        assert played.needs["done"].value == found.needs["done"].figure.most == rx.response.most


def test_items_of_a_routine_count_once_for_what_is_below_it():
    """A run has six, and six may be asked for in a row: but there are six in all, and three more of the next burst."""
    text = (
        routine()
        .replace("[source.byte]", "levels = 2\n[source.byte]")
        .replace('on = "buffer', 'level = 0\non = "buffer')
    )
    text += '[source.low]\nevery = "1 ms"\n[isr.low]\non = "source.low"\nlevel = 1\ncost = "10 us"\n'
    low = bounds(read_model(text, "m.toml")).isrs["low"]
    assert low.response.most == (6 * 6 + 6 * 4 + 10) * US  # each byte may be asked for by itself
    assert [(part.what, part.count, part.body) for part in low.response.parts if "items" in part.what] == [
        ("before or over it: items", 6, 4 * US)
    ]


def test_a_routine_that_each_byte_starts():
    """Held off for 35 us it finds four; the fifth comes before these have left. While something is in, it waits or runs."""
    text = routine('gap = "10 us"\nmean = "10.2 us"', cost=6, each=1).replace(
        "[source.byte]", "levels = 2\n[source.byte]"
    )
    text = text.replace('on = "buffer.fifo"', 'on = "source.byte"\nlevel = 1')
    text += '[source.slow]\nevery = "1 ms"\n[isr.slow]\non = "source.slow"\nlevel = 0\ncost = "35 us"\n'
    found = bounds(read_model(text, "m.toml"))
    fifo = found.buffers["fifo"]
    assert (fifo.taken, fifo.level, fifo.lost) == (5, 5, False)
    played = simulate(read_model(text, "m.toml"), 10_000_000 * US, RunOptions(costs="most"))
    assert played.levels["fifo"] == 5
    assert 0.9 * fifo.time.most < played.counted["buffer.fifo.time"].most <= fifo.time.most < 47 * US


def test_a_routine_that_takes_no_faster_than_they_come_has_no_end():
    found = bounds(read_model(routine(APART, each=10), "m.toml"))
    assert found.isrs["rx"].response.reason == "as much can come into buffer.fifo as isr.rx takes meanwhile"
    assert found.buffers["fifo"].lost


@pytest.mark.parametrize("nesting", [False, True])
@pytest.mark.parametrize("level", [0, 1])
def test_what_such_a_routine_holds_off_has_no_end_either(nesting, level):
    more = f"nesting = {str(nesting).lower()}\nlevels = 2\n[source.byte]"
    text = routine(APART, each=10).replace("[source.byte]", more)
    text = text.replace('on = "buffer.fifo"', f'on = "buffer.fifo"\nlevel = {1 - level}')
    text += f'[source.other]\nevery = "5 ms"\n[isr.other]\non = "source.other"\nlevel = {level}\ncost = "1 us"\n'
    latency = bounds(read_model(text, "m.toml")).isrs["other"].latency
    assert (latency.most is None) == (not nesting or level == 1)


def test_what_it_has_drained_it_moves_on_all_of_it():
    """Also what it took later: a run that ends puts as many as it took, one by one."""
    text = routine().replace("[need.taken]", 'puts = { into = "buffer.ring", items = "drained" }\n'
        '[buffer.ring]\ndepth = 32\n[loop]\noverhead = "2 us"\n[step.parse]\ndrains = "buffer.ring"\ncost = "1 us"\n'
        'each = "1 us"\n[need.taken]')  # fmt: skip
    found = bounds(read_model(text, "m.toml"))
    assert not found.buffers["ring"].lost
    played = simulate(read_model(text, "m.toml"), 100_000 * US, RunOptions(costs="most"))
    assert 0 <= played.counted["buffer.fifo.time"].count - played.counted["buffer.ring.time"].count <= 6
    assert found.buffers["ring"].level >= played.levels["ring"] == 6


BOARD = """
[source.byte]
gap = "60 us"
[isr.byte]
on = "source.byte"
level = 1
cost = ["2 us", "3 us"]
[buffer.ring]
depth = 16
fed_by = "isr.byte.end"
[step.parse]
polls = "buffer.ring"
drains = {drains}
cost = ["4 us", "6 us"]
each = ["35 us", "45 us"]
[need.parsed]
from = "source.byte"
to = "step.parse.end"
within = "2 ms"
[probe.D2]
shows = "isr.byte"
[probe.D3]
shows = "step.parse"
[probe.D4]
shows = "source.byte"
edge = "rise"
"""


def on_the_board(seed, each, drains, *, until_empty=True):
    dice = random.Random(seed)
    until = ANALYSER.begin + ANALYSER.length + 5000 * US
    came = list(_apart(dice, until, 61 * US, dice.choice([70, 150, 600]) * US))
    task = Task(
        "parse", (Burns((4_200_000, 5_800_000)), Empties("ring", 16, each, until_empty=until_empty)), asked="ring"
    )
    rx = Routine("byte", 1, came, (2_100_000, 2_900_000), puts="ring")
    return on_board(BOARD.format(drains=drains), seed, False, [task], lambda truth: {
        "D2": busy(truth, "byte"), "D3": steps(truth, "parse"), "D4": pulses(came, 30 * US)},
        routines=(rx,), stores=(Store("ring", 16),))  # fmt: skip


@pytest.mark.parametrize("seed", range(6))
def test_a_right_model_of_such_a_board_is_not_blamed(seed):
    result, truth = on_the_board(seed, (35_500_000, 44_500_000), UNTIL)
    assert [(each.code, each.about, each.text) for each in result.findings] == []
    deepest = max(level for _, level in truth.levels["ring"])
    assert result.buffers["ring"].level <= deepest <= result.bounds.buffers["ring"].level
    assert str(result.needs["parsed"].verdict) in ("met", "at risk")


@pytest.mark.parametrize("seed", [0, 3])
def test_items_that_take_longer_are_named(seed):
    result, _ = on_the_board(seed, (50 * US, 55 * US), UNTIL)
    assert first(result)[:1] in ([("step.parse", "each-longer")], [("step.parse", "cost-longer")])


@pytest.mark.parametrize("seed", [0, 1])
def test_items_that_take_longer_are_not_taken_for_it(seed):
    result, _ = on_the_board(seed, (80 * US, 85 * US), '"buffer.ring"', until_empty=False)
    assert first(result)[:1] in ([("step.parse", "each-longer")], [("step.parse", "cost-longer")])
    assert "takes-meanwhile" not in {each.code for each in result.findings}


@pytest.mark.parametrize("seed", [1, 2])
def test_a_model_that_does_not_know_of_it_is_told_so_alone(seed):
    result, _ = on_the_board(seed, (35_500_000, 44_500_000), '"buffer.ring"')
    assert [(each.code, each.about) for each in result.findings] == [("takes-meanwhile", "step.parse")]
    assert str(result.needs["parsed"].verdict) == "at risk"


FIFO = """
tachys = 1
[core]
clock = "10 MHz"
entry = "0.5 us"
exit = "0.5 us"
[source.sample]
gap = "59 us"
[buffer.fifo]
depth = 15
fed_by = "source.sample"
threshold = 4
[isr.filter]
on = "buffer.fifo"
cost = "4 us"
each = ["20 us", "20.4 us"]
drains = { from = "buffer.fifo", most = 8 }
[probe.D0]
shows = "source.sample"
edge = "rise"
[probe.D1]
shows = "isr.filter"
"""


def fifo_board(seed, *, meanwhile, each=20_200_000, drains="most = 8"):
    """A routine that empties a FIFO and what comes ``meanwhile``, too, or the next time."""
    dice, now, came, bodies, waiting, free = random.Random(seed), 0, [], [], [], 0
    for _ in range(3000):
        now += dice.randint(60, 130) * US
        came.append(now)
    for at in came:
        if at < free and meanwhile:  # the run that goes on takes it: longer by one
            bodies[-1][1] = free = free + each
            continue
        waiting.append(at)
        if len(waiting) >= 4:
            begin = max(at + 500_000, free + US)
            taken = [each for each in waiting if each <= begin]
            waiting = waiting[len(taken) :]
            bodies.append([begin, begin + 4 * US + len(taken) * each])
            free = bodies[-1][1]
    highs = {"D0": [(at, at + 20 * US) for at in came], "D1": bodies}
    return check(read_model(FIFO.replace("most = 8", drains), "m.toml"), capture_of(highs, now + 50 * US))


@pytest.mark.parametrize("seed", range(4))
def test_a_routine_that_takes_what_comes_meanwhile_is_told(seed):
    """Its items are not said to cost more."""
    found = fifo_board(seed, meanwhile=True).findings
    assert (found[0].code, found[0].about) == ("takes-meanwhile", "isr.filter")
    assert not [each for each in found if each.code in ("each-longer", "cost-longer")]
    assert fifo_board(seed, meanwhile=False).findings == ()


@pytest.mark.parametrize("seed", range(4))
def test_items_of_a_routine_that_cost_more_are_told_as_such(seed):
    found = fifo_board(seed, meanwhile=False, each=21_800_000).findings
    assert [each.code for each in found] in (["each-longer"], ["cost-longer"])


@pytest.mark.parametrize("seed", range(4))
def test_a_right_model_of_such_a_routine_is_not_blamed(seed):
    result = fifo_board(seed, meanwhile=True, drains='until = "empty"')
    assert [(each.code, each.about, each.text) for each in result.findings] == []
    assert not result.unmeasured if hasattr(result, "unmeasured") else True


@pytest.mark.parametrize("seed", range(4))
def test_items_of_such_a_routine_that_cost_more_are_told(seed):
    found = fifo_board(seed, meanwhile=True, each=21_800_000, drains='until = "empty"').findings
    assert [each.code for each in found] in (["each-longer"], ["cost-longer"])


@pytest.mark.parametrize("seed", range(4))
def test_a_routine_that_leaves_in_what_comes_meanwhile(seed):
    """What can follow from a model that lets it take more is not said of it; that it takes less is no fault."""
    found = fifo_board(seed, meanwhile=False, drains='until = "empty"').findings
    assert {each.code for each in found} <= {"took-fewer"}, found
