"""Steps in parts: what they wait for, how long that takes on paper and played, both machines, a board with faults."""

import random

import pytest

from boards import first, on_board
from planted import MS, US
from playing import beaten, played
from tachys.demo.analyser import pulses, steps
from tachys.demo.machine import Burns, Fills, Store, Task, Waits
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

NS = 1000
HEAD = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\nentry = "2 ns"\nexit = "1 ns"\n'
TIMER = '[source.t]\nevery = "430 ns"\n[isr.t]\non = "source.t"\ncost = "20 ns"\n'
ASK = HEAD + (
    '[unit.sensor]\non = "step.ask.start"\ntakes = "TAKES"\n[loop]\noverhead = "4 ns"\n[step.ask]\nevery = "1000 ns"\n'
    'cost = "10 ns"\nthen = [\n{ waits = { next = "unit.sensor" }, at_most = "300 ns", cost = "12 ns" },\n'
    '{ pause = "50 ns" },\n{ waits = { next = "unit.sensor" }, at_most = "40 ns", cost = "7 ns" } ]\n'
)
BUS = HEAD + TIMER + (
    '[buffer.bus]\ndepth = 2\n[unit.bus]\ndrains = "buffer.bus"\ntakes = ["90 ns", "100 ns"]\n[loop]\n'
    'overhead = "4 ns"\n[step.ask]\nevery = "1000 ns"\ncost = "10 ns"\nputs = { into = "buffer.bus", items = 1 }\n'
    'then = [\n{ waits = { next = "unit.bus" }, cost = "12 ns", puts = { into = "buffer.bus", items = 1 } },\n'
    '{ waits = { next = "unit.bus" }, cost = "7 ns" } ]\n'
)  # fmt: skip


@pytest.mark.parametrize(
    ("takes", "paper", "lasts"),
    [
        # the answer comes 100 ns after the beginning, 12 ns of work, a pause of 50, no second answer within 40
        ("100 ns", 10 + 100 + 12 + 50 + 40 + 7, 100 + 12 + 50 + 40),
        # it is there before it is waited for, and counts
        ("5 ns", 10 + 5 + 12 + 50 + 40 + 7, 10 + 12 + 50 + 40),
        # it comes too late, and the step ends
        ("400 ns", 10 + 300 + 12 + 50 + 40 + 7, 10 + 300),
    ],
)
def test_a_step_waits_for_the_next_answer_since_it_began(takes, paper, lasts):
    system = read_model(ASK.replace("TAKES", takes), "m.toml")
    assert bounds(system).steps["ask"].duration.most == paper * NS
    _, seen = steps_of(system, RunOptions())
    assert set(seen) == {lasts * NS}


def steps_of(system, how):
    """(ends, how long the runs of the step lasted) in one run."""
    from tachys.simulation import layout as at
    from tachys.simulation.engine import play_whole

    _, records, _ = play_whole(system, how, 10**7)
    begun, ended = (records.time[records.kind == kind] for kind in (at.STEP_START, at.STEP_END))
    return ended, (ended - begun[: len(ended)]).tolist()


def test_a_second_question_is_put_when_the_first_has_its_answer():
    system = read_model(BUS, "m.toml")
    found = bounds(system)
    # both find room, as the ones before are gone; each answer within 100 ns; one interrupt (2 + 20 + 1)
    assert found.steps["ask"].duration.most == (10 + 100 + 12 + 100 + 7 + 23) * NS
    most = max(max(steps_of(system, RunOptions("most", "drawn", "gap", seed=seed))[1]) for seed in range(40))
    assert 0.8 * found.steps["ask"].duration.most <= most <= found.steps["ask"].duration.most
    for seed in range(20):
        assert not beaten(found, played(system, RunOptions("drawn", "drawn", "gap", seed=seed)))


@pytest.mark.parametrize(
    ("old", "new", "bounded"),
    [
        ("items = 1 }\nthen", "items = [0, 1] }\nthen", False),  # what it has not put has no answer
        ('cost = "12 ns", puts = { into = "buffer.bus", items = 1 }', 'cost = "12 ns"', False),  # nor a second one
        ('depth = 2', 'depth = 1', True),
        ('depth = 2', 'depth = 2\nfed_by = "source.t"', None),
    ],
)  # fmt: skip
def test_an_answer_that_is_not_sure_to_come_has_no_bound(old, new, bounded):
    if bounded is None:
        with pytest.raises(InputError, match="puts into it too"):
            read_model(BUS.replace(old, new), "m.toml")
        return
    duration = bounds(read_model(BUS.replace(old, new), "m.toml")).steps["ask"].duration
    assert (duration.most is not None) is bounded
    assert bounded or "nothing makes sure that unit.bus ends once more" in duration.reason


@pytest.mark.parametrize("seed", range(6))
def test_both_machines_do_the_parts_alike(seed):
    dice = random.Random(seed)
    text = BUS.replace('["90 ns", "100 ns"]', f'"{dice.randint(3, 300)} ns"').replace(
        "12 ns", f"{dice.randint(0, 200)} ns"
    )
    text = text.replace('= "unit.bus" }, cost', f'= "unit.bus" }}, at_most = "{dice.randint(5, 200)} ns", cost')
    assert_agreement(read_model(text, "m.toml"), RunOptions(seed=seed), 10**7)


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ('then = [{ at_most = "3 ns", cost = "1 ns" }]', "goes with waits"),
        ("then = [{}]", "step.x.then 1: the part does nothing"),
        ('then = [{ waits = { next = "unit.none" }, cost = "1 ns" }]', '"unit.none" names no unit'),
        ('then = [{ waits = "flig", cost = "1 ns" }]', None),
        ('then = [{ cost = "1 ns", moments = { x = "1 ns" } }]', "unknown key"),
        ('then = [{ cost = "1 ns", polls = "f" }]', "unknown key"),
        ("then = [" + ", ".join(['{ cost = "1 ns" }'] * 65) + "]", "has 65 parts; a step has 64 at most"),
    ],
)
def test_what_a_part_may_say(more, said):
    text = HEAD + f'[loop]\noverhead = "1 ns"\n[step.x]\ncost = "1 ns"\n{more}\n'
    if said is None:
        assert any(remark.code == "flag-never-set" for remark in read_model(text, "m.toml").remarks)
        return
    with pytest.raises(InputError, match=said):
        read_model(text, "m.toml")


SENSOR = """
[buffer.bus]
depth = 1
[unit.bus]
drains = "buffer.bus"
takes = ["180 us", "220 us"]
[step.ask]
every = "5 ms"
cost = ["9 us", "12 us"]
puts = { into = "buffer.bus", items = 1 }
[[step.ask.then]]
waits = { next = "unit.bus" }
at_most = "1 ms"
cost = ["20 us", "26 us"]
puts = { into = "buffer.bus", items = 1 }
[[step.ask.then]]
waits = { next = "unit.bus" }
at_most = "1 ms"
cost = ["30 us", "36 us"]
[need.asked]
from = "step.ask.start"
to = "step.ask.end"
within = "1 ms"
[probe.D2]
shows = "step.ask"
[probe.D3]
shows = "unit.bus.start"
edge = "rise"
[probe.D4]
shows = "unit.bus.end"
edge = "rise"
"""


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("blocking send", [("step.send", "time-longer")]),
        ("slow sensor", [("unit.bus", "takes-longer")]),
        ("no second answer", [("step.ask", "time-longer")]),
    ],
)
def test_what_is_wrong_with_a_step_that_asks_twice_is_named_first(fault, named, seed):
    takes = (410 * US, 430 * US) if fault == "slow sensor" else (182 * US, 218 * US)
    limit = (3 * MS, 3 * MS) if fault == "no second answer" else (1 * MS, 1 * MS)
    second = () if fault == "no second answer" else (Fills("bus", (1, 1)),)
    ask = Task("ask", (
        Burns((9_300_000, 11_600_000)), Fills("bus", (1, 1)), Waits(None, (1 * MS, 1 * MS), "bus"),
        Burns((20_500_000, 25_500_000)), *second, Waits(None, limit, "bus"), Burns((30_500_000, 35_500_000)),
    ), every=5 * MS)  # fmt: skip
    result, _ = on_board(
        SENSOR, seed, fault == "blocking send", (ask,),
        lambda truth: {"D2": steps(truth, "ask"), "D3": pulses([begin for _, begin, _ in truth.sent], 30 * US),
                       "D4": pulses([end for *_, end in truth.sent], 30 * US)},
        stores=(Store("bus", 1, sent_in=takes),),
    )  # fmt: skip
    assert first(result) == named, result.findings
    assert bool(result.missed) == (fault == "no second answer")
