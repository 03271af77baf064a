"""What drains until nothing is in: what comes while others are copied is taken too, by the same run."""

import random

import pytest

from boards import first, on_board
from planted import ANALYSER, US, _apart
from tachys.capture.table import Capture, make_signal
from tachys.checking.checking import check
from tachys.demo.analyser import busy, pulses, steps
from tachys.demo.machine import Burns, Empties, Routine, Store, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds

MODEL = """
tachys = 1
[core]
clock = "48 MHz"
entry = "0 ns"
exit = "0 ns"
[source.byte]
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


@pytest.mark.parametrize(
    ("more", "says"),
    [
        (', most = 3 }\ncost = "1 us"', "takes all that comes, and most only so many"),
        (' }\ncost = "1 us"\n[buffer.ring]\nfull = "overwrite"', 'not yet with full = "overwrite"'),
        (' }\ncost = "1 us"\n[isr.rx]\non = "buffer.other"\ncost = "1 us"\ndrains = { from = "buffer.other", until = "empty" '
         '}\n[buffer.other]\ndepth = 2\nfed_by = "source.byte"', "not yet: a routine takes what is in as it begins"),
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


ROUTINE = """
tachys = 1
[core]
clock = "48 MHz"
entry = "0 ns"
exit = "0 ns"
[source.byte]
gap = "10 us"
[buffer.fifo]
depth = 32
fed_by = "source.byte"
{asks}
[isr.rx]
on = "buffer.fifo"
drains = {{ from = "buffer.fifo", until = "empty" }}
cost = "20 us"
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
not_yet = pytest.mark.xfail(raises=InputError, strict=True)


@not_yet
@pytest.mark.parametrize(
    ("asks", "each", "taken", "level", "reaction", "time"),
    [  # the n-th byte is taken if it came before the one ahead of it has left: 10 (n - 1) <= 20 + 4 (n - 1), or 3 sooner
        ("", 4, 4, 3, 0, 36),
        ('threshold = 4\nquiet = "35 us"', 4, 9, 6, 3 * 35, 3 * 35 + 56),
        ('asks_each = 4\nquiet = "35 us"', 4, 9, 6, 3 * 35, 3 * 35 + 56),
        ("", 0, 3, 3, 0, 20),
    ],
)
def test_a_routine_by_hand_and_played_to_the_bound(asks, each, taken, level, reaction, time):
    text = ROUTINE.format(asks=asks, each=each)
    found = bounds(read_model(text, "m.toml"))
    fifo, rx = found.buffers["fifo"], found.isrs["rx"]
    assert (fifo.taken, fifo.level, fifo.lost) == (taken, level, False)
    assert (rx.response.most, rx.lost) == ((20 + taken * each) * US, False)
    assert (fifo.reaction.most, fifo.time.most) == (reaction * US, time * US)
    text = text.replace('gap = "10 us"', 'gap = "10 us"\nmean = "10.2 us"')
    played = simulate(read_model(text, "m.toml"), 400_000 * US, RunOptions(costs="most"))
    assert played.counted["isr.rx.response"].most == rx.response.most
    assert played.levels["fifo"] == fifo.level
    assert played.needs["taken"].value <= fifo.reaction.most
    assert played.needs["done"].value <= fifo.time.most
    if not asks:
        assert 0.99 * fifo.time.most < played.needs["done"].value


@not_yet
def test_a_routine_that_takes_no_faster_than_they_come_has_no_end():
    found = bounds(read_model(ROUTINE.format(asks="", each=10), "m.toml"))
    assert found.isrs["rx"].response.reason == "as much can come into buffer.fifo as isr.rx takes meanwhile"
    assert found.buffers["fifo"].lost


@not_yet
@pytest.mark.parametrize("nesting", [False, True])
def test_what_such_a_routine_holds_off_has_no_end_either(nesting):
    more = f"nesting = {str(nesting).lower()}\nlevels = 2\n"
    other = '[source.other]\nevery = "5 ms"\n[isr.other]\non = "source.other"\nlevel = {}\ncost = "1 us"\n'
    for level in (0, 1):
        text = ROUTINE.format(asks="", each=10).replace("[source.byte]", more + "[source.byte]") + other.format(level)
        text = text.replace('on = "buffer.fifo"', f'on = "buffer.fifo"\nlevel = {1 - level}')
        latency = bounds(read_model(text, "m.toml")).isrs["other"].latency
        assert (latency.most is None) == (not nesting or level == 1), (level, latency)


@not_yet
def test_what_it_has_drained_it_moves_on_all_of_it():
    """Also what it took later: a run that ends puts as many as it took, one by one."""
    text = ROUTINE.format(asks="", each=4).replace("[need.taken]", 'puts = { into = "buffer.ring", items = "drained" }\n'
        '[buffer.ring]\ndepth = 32\n[loop]\noverhead = "2 us"\n[step.parse]\ndrains = "buffer.ring"\ncost = "1 us"\n'
        'each = "1 us"\n[need.taken]')  # fmt: skip
    found = bounds(read_model(text, "m.toml"))
    assert not found.buffers["ring"].lost
    played = simulate(read_model(text, "m.toml"), 100_000 * US, RunOptions(costs="most"))
    assert played.counted["buffer.fifo.time"].count - played.counted["buffer.ring.time"].count <= 4
    assert found.buffers["ring"].level >= played.levels["ring"] >= 4


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
    lines = {"D0": [(at, at + 20 * US) for at in came], "D1": bodies}
    signals = {
        name: make_signal(name, 1, [0, *(at for high in spans for at in high)], [0, *[1, 0] * len(spans)])
        for name, spans in lines.items()
    }
    return check(
        read_model(FIFO.replace("most = 8", drains), "m.toml"), Capture("fifo.vcd", signals, 0, now + 50 * US, 100_000)
    )


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


@not_yet
@pytest.mark.parametrize("seed", range(4))
def test_a_right_model_of_such_a_routine_is_not_blamed(seed):
    result = fifo_board(seed, meanwhile=True, drains='until = "empty"')
    assert [(each.code, each.about, each.text) for each in result.findings] == []
    assert result.isrs["filter"].cost.modelled.most >= result.isrs["filter"].cost.seen.most


@not_yet
@pytest.mark.parametrize("seed", range(4))
def test_items_of_such_a_routine_that_cost_more_are_told(seed):
    found = fifo_board(seed, meanwhile=True, each=21_800_000, drains='until = "empty"').findings
    assert [each.code for each in found] in (["each-longer"], ["cost-longer"])


@not_yet
@pytest.mark.parametrize("seed", range(4))
def test_a_routine_that_leaves_in_what_comes_meanwhile(seed):
    """What can follow from a model that lets it take more is not said of it; that it takes less is no fault."""
    found = fifo_board(seed, meanwhile=False, drains='until = "empty"').findings
    assert {each.code for each in found} <= {"took-fewer"}, found
