"""Steps that poll several flags, any of them or all: their bounds by hand, what is played, and a fault on a board."""

import pytest

from boards import UNTIL, first, on_board
from planted import MS, US
from playing import played
from tachys.demo.analyser import pulses, steps
from tachys.demo.machine import Burns, Latch, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds

NS = 1000
TWO = (
    'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\nentry = "2 ns"\nexit = "1 ns"\n'
    '[source.a]\nevery = "1000 ns"\n[isr.a]\non = "source.a"\nlevel = 0\ncost = "10 ns"\nsets = "a"\n'
    '[source.b]\nevery = "700 ns"\n[isr.b]\non = "source.b"\nlevel = 1\ncost = "5 ns"\nsets = "b"\n'
    '[loop]\noverhead = "4 ns"\n[step.both]\npolls = POLLS\ncost = "30 ns"\n[step.rest]\ncost = "50 ns"\n'
)
ANY, ALL = (TWO.replace("POLLS", each) for each in ('["a", "b"]', '{ all = ["a", "b"] }'))


def test_one_of_two_flags_opens_it_within_a_round_and_its_own_run():
    found = bounds(read_model(ANY, "m.toml"))
    # a round in which it runs for the other (4 + 30 + 50), both routines once (13 + 8), less 12 to the end of isr.a
    assert found.flags["a"].reaction.most == (84 + 21 - 12) * NS
    assert found.flags["b"].reaction.most == (84 + 21 - 7) * NS
    assert not found.flags["a"].overwritten
    # of the load each set asks for one run: 30 / 1000 + 30 / 700
    shares = {share.who: share.most for share in found.load.shares}
    assert shares["step.both"] == pytest.approx(30 / 1000 + 30 / 700)


def test_all_of_two_flags_open_it_once_the_last_is_set():
    found = bounds(read_model(ALL, "m.toml"))
    # the next end of isr.b comes 700 ns after any instant and one response of it, which both routines fill
    assert found.flags["a"].reaction.most == (700 + 2 + 5 + 13 + 84 + 21 - 7) * NS
    # the next end of isr.a 1000 ns and one response (behind a chain, 3 ns) after: it can be set again
    assert found.flags["b"].reaction.most == (1000 + 3 + 2 + 10 + 84 + 21 - 12) * NS
    assert found.flags["b"].overwritten
    # not more often than the rarer of the two
    shares = {share.who: share.most for share in found.load.shares}
    assert shares["step.both"] == pytest.approx(30 / 1000)


@pytest.mark.parametrize(
    ("text", "flag", "share"), [(ANY, "a", 0.8), (ANY, "b", 0.8), (ALL, "a", 0.8), (ALL, "b", 0.8)]
)
def test_they_are_played_to_what_paper_says(text, flag, share):
    system, most = read_model(text, "m.toml"), 0
    for seed in range(60):
        run = played(system, RunOptions("drawn", "drawn", "gap", seed=seed), 4 * 10**8)
        most = max(most, counted(run.memory, run.index)[f"flag.{flag}"].most)
    paper = bounds(system).flags[flag].reaction.most
    assert share * paper <= most <= paper


def test_a_flag_that_nobody_is_sure_to_set_leaves_the_others_without_a_bound():
    found = bounds(read_model(ALL.replace("[source.b]\nevery", "[source.b]\ngap"), "m.toml"))
    assert found.flags["a"].reaction.most is None
    assert 'nothing is sure to set the flag "b" too' in found.flags["a"].reaction.reason
    assert found.flags["b"].reaction.most is not None


def test_an_event_that_sets_both_opens_it_once():
    text = TWO.replace("POLLS", '["a", "c"]').replace('sets = "a"', 'sets = ["a", "c"]')
    found = bounds(read_model(text, "m.toml"))
    shares = {share.who: share.most for share in found.load.shares}
    assert shares["step.both"] == pytest.approx(30 / 1000)


@pytest.mark.parametrize(
    ("polls", "said"),
    [
        ('{ any = ["a", "b"] }', "unknown key"),
        ('["a", 3]', "polls"),
        ("{ all = [] }", "names no flag"),
        ('["a", "a b"]', "cannot name a flag"),
        ('["a", "buffer.x"]', "names no buffer"),
    ],
)
def test_what_cannot_be_polled_is_refused(polls, said):
    with pytest.raises(InputError, match=said):
        read_model(TWO.replace("POLLS", polls), "m.toml")


GATES = """
[source.sample]
every = "SAMPLE"
[flag.fresh]
set_by = "source.sample"
[step.parse]
every = "5 ms"
cost = ["30 us", "40 us"]
sets = "parsed"
[step.feed]
polls = POLLS
cost = ["20 us", "26 us"]
[watchdog]
fed_by = "step.feed.start"
timeout = "14 ms"
[probe.D2]
shows = "source.sample"
edge = "rise"
[probe.D3]
shows = "step.parse"
[probe.D4]
shows = "step.feed"
"""


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("blocking send", [("step.send", "time-longer")]),
        ("longer work", [("step.feed", "cost-longer")]),
        ("slow sampling", [("source.sample", "period-off")]),
        ("one for all", [("step.feed", "runs-unasked")]),
    ],
)
@pytest.mark.parametrize("together", [True, False])
def test_what_is_wrong_on_a_board_that_waits_for_several_flags_is_named_first(together, fault, named, seed):
    polls = '{ all = ["fresh", "parsed"] }' if together else '["fresh", "parsed"]'
    named = named if together or fault != "one for all" else []  # any of them is enough there
    period = 9 * MS if fault == "slow sampling" else 4 * MS
    sample = list(range(MS, UNTIL, period))
    work = (90 * US, 95 * US) if fault == "longer work" else (20_500_000, 25_500_000)
    parse = Task("parse", (Burns((31 * US, 39 * US)),), every=5 * MS, sets=("parsed",))
    feed = Task("feed", (Burns(work),), polls=("fresh", "parsed"), all_of=together and fault != "one for all")
    result, _ = on_board(
        GATES.replace("POLLS", polls).replace("SAMPLE", "4 ms"), seed, fault == "blocking send", (parse, feed),
        lambda truth: {"D2": pulses(sample, 30 * US), "D3": steps(truth, "parse"), "D4": steps(truth, "feed")},
        latches=(Latch("fresh", sample),),
    )  # fmt: skip
    assert first(result) == named
    assert not result.missed or fault == "slow sampling"


def test_a_step_that_waits_for_all_is_late_by_the_flag_that_was_not_set():
    text = GATES.replace("POLLS", '{ all = ["fresh", "parsed"] }').replace('every = "SAMPLE"', 'gap = "1 ms"')
    text += '[need.soon]\nfrom = "step.parse.end"\nto = "step.feed.start"\nwithin = "3 ms"\n'
    sample = [at for at in range(MS, UNTIL, 3 * MS) if at % (60 * MS) > 20 * MS]
    parse = Task("parse", (Burns((31 * US, 39 * US)),), every=5 * MS, sets=("parsed",))
    feed = Task("feed", (Burns((21 * US, 25 * US)),), polls=("fresh", "parsed"), all_of=True)
    result, _ = on_board(
        text, 1, False, (parse, feed),
        lambda truth: {"D2": pulses(sample, 30 * US), "D3": steps(truth, "parse"), "D4": steps(truth, "feed")},
        latches=(Latch("fresh", sample),),
    )  # fmt: skip
    assert not result.findings
    late = [miss for miss in result.needs["soon"].misses if miss.kind == "late"]
    assert {(miss.causes[0].what, miss.causes[0].how) for miss in late} == {("flag.fresh", "not set")}
