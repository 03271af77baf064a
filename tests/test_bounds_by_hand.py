"""Bounds of small systems, worked out by hand. Times in ns; entry 2, exit 1, chain 1 unless said otherwise."""

from fractions import Fraction

import pytest

from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict
from tachys.worstcase.analysis import bounds

NS = 1000


def head(levels=2, entry=2, leave=1, chain=1, more=""):
    return (
        f'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = {levels}\nentry = "{entry} ns"\nexit = "{leave} ns"\n'
        f'chain = "{chain} ns"\n{more}'
    )


def gap(name, distance):
    return f'[source.{name}]\ngap = "{distance} ns"\n'


def isr(name, level, cost, more="", on=None):
    events = on or f'"source.{name}"'
    return f"[isr.{name}]\non = {events}\nlevel = {level}\ncost = {cost}\n{more}\n"


def ns(count):
    return f'"{count} ns"'


def figures(text, name):
    found = bounds(read_model(text, "m.toml")).isrs[name]
    return found.latency.most // NS, found.response.most // NS, found.span.most // NS


BLOCKERS = {
    "nothing below it": (head() + gap("h", 500) + isr("h", 0, ns(10)), (2, 12, 10)),
    "an entry of a less urgent one has begun": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10)) + isr("l", 1, ns(50)),
        (2 + 2, 2 + 2 + 10, 10),
    ),
    "its exit lasts longer than its entry": (
        head(leave=7) + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10)) + isr("l", 1, ns(50)),
        (7 + 2, 7 + 2 + 10, 10),
    ),
    "late arrival waits only for the exit": (
        head(more="late_arrival = true\n") + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10)) + isr("l", 1, ns(50)),
        (1 + 2, 1 + 2 + 10, 10),
    ),
    "a guard of a less urgent one": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10))
        + isr("l", 1, ns(50), 'guard = { level = 0, for = "20 ns" }'),
        (20 + 2, 20 + 2 + 10, 10),
    ),
    "a guard that can last to the end of the body brings the exit": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10))
        + isr("l", 1, '["30 ns", "50 ns"]', 'guard = { level = 0, for = "20 ns", at = "15 ns" }'),
        (20 + 1 + 2, 20 + 1 + 2 + 10, 10),
    ),
    "guards that touch are one": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10))
        + isr("l", 1, ns(50), 'guard = [{ level = 0, for = "20 ns" }, { level = 0, for = "9 ns", at = "20 ns" }]'),
        (29 + 2, 29 + 2 + 10, 10),
    ),
    "a guard that begins now sooner, now later lasts no longer": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10))
        + isr("l", 1, ns(50), 'guard = { level = 0, for = "20 ns", at = ["5 ns", "25 ns"] }'),
        (20 + 2, 20 + 2 + 10, 10),
    ),
    "one to the end lasts longest where it begins soonest": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10))
        + isr("l", 1, '["40 ns", "50 ns"]', 'guard = { level = 0, for = "all", at = ["30 ns", "40 ns"] }'),
        (20 + 1 + 2, 20 + 1 + 2 + 10, 10),
    ),
    "of two that may meet both hold it off": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10))
        + isr("l", 1, ns(50), 'guard = [{ level = 0, for = "20 ns", at = ["0 ns", "10 ns"] }, '
              '{ level = 0, for = "9 ns", at = ["15 ns", "25 ns"] }]'),
        (29 + 2, 29 + 2 + 10, 10),
    ),
    "a guard of a level below does not hold it off": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10))
        + isr("l", 1, ns(50), 'guard = { level = 1, for = "20 ns" }'),
        (2 + 2, 2 + 2 + 10, 10),
    ),
    "one of its level runs to the end": (
        head() + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10)) + isr("l", 0, ns(50)),
        (2 + 50 + 1 + 2, 2 + 50 + 1 + 2 + 10, 10),
    ),
    "without nesting any runs to the end": (
        head(more="nesting = false\n") + gap("h", 500) + gap("l", 500) + isr("h", 0, ns(10)) + isr("l", 1, ns(50)),
        (2 + 50 + 1 + 2, 2 + 50 + 1 + 2 + 10, 10),
    ),
    "a guard of the loop": (
        head() + gap("h", 500) + isr("h", 0, ns(10))
        + '[loop]\noverhead = "5 ns"\n[step.s]\ncost = "40 ns"\nguard = { level = 0, for = "30 ns" }\n',
        (30 + 2, 30 + 2 + 10, 10),
    ),
    "a core that sleeps wakes first": (
        head(more='wake = "9 ns"\n') + gap("h", 500) + isr("h", 0, ns(10))
        + '[loop]\noverhead = "5 ns"\n[step.s]\nsleep = true\n',
        (9 + 2, 9 + 2 + 10, 10),
    ),
}  # fmt: skip


@pytest.mark.parametrize("why", BLOCKERS)
def test_what_holds_the_most_urgent_off(why):
    text, expected = BLOCKERS[why]
    assert figures(text, "h") == expected


def test_what_goes_before_and_on_top():
    """h 10 + 2 + 1 = 13 every 100, l 40: l's latency 13 + 2; h comes again at 100, after l has ended at 55."""
    text = head() + gap("h", 100) + gap("l", 500) + isr("h", 0, ns(10)) + isr("l", 1, ns(40))
    assert figures(text, "l") == (13 + 2, 13 + 2 + 40, 40 + 13)
    longer = text.replace(ns(40), ns(90))
    # 15 + 90 = 105 > 100: a second h, until 118; by the wall clock 90 + 13 = 103 holds two of them
    assert figures(longer, "l") == (13 + 2, 13 + 2 + 90 + 13, 90 + 2 * 13)


def test_a_chain_that_is_longer_than_entry_and_exit():
    """T = entry + cost + max(exit, chain - entry): with chain 9 each activation takes 2 + cost + 7."""
    text = (
        head(chain=9)
        + gap("a", 400)
        + gap("b", 400)
        + isr("a", 0, ns(10), "order = 0")
        + isr("b", 0, ns(10), "order = 1")
    )
    # b: a goes before it, 2 + 10 + 7, and then its own entry, which is what the 7 has paid for in part
    assert figures(text, "b") == (19 + 2, 19 + 2 + 10, 10)
    # a: b has just been chained to, for 9, and ends with a chain
    assert figures(text, "a") == (9 + 10 + 7 + 2, 9 + 10 + 7 + 2 + 10, 10)


def test_one_run_serves_all_that_waits():
    text = head() + gap("h", 30) + isr("h", 0, ns(10), 'pending = 3\nserves = "all"')
    found = bounds(read_model(text, "m.toml")).isrs["h"]
    # alone: nothing waits longer than the entry, so one event is all that a run finds
    assert found.response.most == 12 * NS
    held = text + gap("l", 900) + isr("l", 1, ns(100), 'guard = { level = 0, for = "70 ns" }')
    # held off 70: events at 0, 30, 60 wait, and the run pays for three
    assert bounds(read_model(held, "m.toml")).isrs["h"].response.most == (70 + 2 + 3 * 10) * NS


def test_a_shared_vector_serves_the_oldest_first():
    text = head() + gap("a", 400) + gap("b", 400)
    text += isr("v", 0, '{ "source.a" = "30 ns", "source.b" = "5 ns" }', on='["source.a", "source.b"]')
    found = bounds(read_model(text, "m.toml"))
    # the cheap one waits for the costly: 33; and the bound takes its own cost for the costly one's
    assert found.isrs["v"].latency.most == (33 + 2) * NS
    assert found.isrs["v"].response.most == (33 + 2 + 30) * NS
    assert not found.isrs["v"].lost
    # on others each weighs with its own cost
    below = bounds(read_model(text + gap("l", 400) + isr("l", 1, ns(10)), "m.toml")).isrs["l"]
    assert below.latency.most == (33 + 8 + 2) * NS
    assert float(found.load.most) == pytest.approx((33 + 8) / 400)


@pytest.mark.parametrize(("pending", "lost"), [(1, True), (2, False)])
def test_how_many_must_be_remembered(pending, lost):
    """Held off 150 with events 100 apart: the one at 100 comes while the one at 0 still waits."""
    text = head() + gap("h", 100) + gap("l", 900) + isr("h", 0, ns(10), f"pending = {pending}")
    found = bounds(read_model(text + isr("l", 1, ns(200), 'guard = { level = 0, for = "150 ns" }'), "m.toml")).isrs["h"]
    assert (found.lost, found.pending_needed) == (lost, 2)


def test_exactly_all_of_the_core_is_bounded_only_if_nothing_delays():
    text = head(entry=0, leave=0, chain=0) + '[source.h]\nevery = "10 ns"\n' + isr("h", 0, ns(10))
    assert figures(text, "h") == (0, 10, 10)
    assert bounds(read_model(text, "m")).load.most == 1
    late = bounds(read_model(text.replace('every = "10 ns"', 'every = "10 ns"\njitter = "1 ns"'), "m")).isrs["h"]
    assert "exactly 100 %" in late.latency.reason


NEEDS = (
    head(levels=1)
    + '[source.s]\nevery = "1000 ns"\njitter = "40 ns"\n[unit.u]\non = "source.s"\ntakes = ["50 ns", "80 ns"]\n'
    + isr("u", 0, '["5 ns", "8 ns"]', 'sets = "f"', on='"unit.u"')
    + '[loop]\noverhead = ["3 ns", "4 ns"]\n[step.p]\npolls = "f"\ncost = ["10 ns", "20 ns"]\n'
)


def proved(more):
    (need,) = [
        need for name, need in bounds(read_model(NEEDS + more, "m.toml")).needs.items() if name in ("n", "watchdog")
    ]
    return need


@pytest.mark.parametrize(
    ("need", "bound"),
    [
        ('from = "source.s"\nto = "unit.u"\nwithin = "9 us"', 80),
        ('from = "source.s"\nto = "isr.u.start"\nwithin = "9 us"', 80 + 2),
        ('from = "source.s"\nto = "isr.u.end"\nwithin = "9 us"', 80 + 2 + 8),
        ('from = "isr.u.start"\nto = "isr.u.end"\nwithin = "9 us"', 8),
        # the reaction: a pass, 4 without p, which is done with the set before, an interruption, 11, less the least
        # response that came before, 1 + 5
        ('from = "isr.u.end"\nto = "step.p.start"\nwithin = "9 us"', 4 + 11 - 6),
        ('from = "source.s"\nto = "step.p.end"\nwithin = "9 us"', 80 + 10 + 9 + 20 + 11),
        ('of = "source.s"\njitter = "9 us"', 40),
        ('of = "unit.u"\njitter = "9 us"', 80 - 50),
        ('of = "isr.u.start"\njitter = "9 us"', 2 - 1),
        ('of = "isr.u.end"\njitter = "9 us"', (2 + 8) - (1 + 5)),
        ('of = "source.s"\nevery = "1000 ns"\ngive_or_take = "90 %"', 40),
        ('of = "unit.u"\nevery = "1000 ns"\ngive_or_take = "90 %"', 40 + 30),
        ('of = "isr.u.end"\nevery = "1000 ns"\ngive_or_take = "90 %"', 40 + 30 + 4),
    ],
)
def test_needs_from_end_to_end(need, bound):
    found = proved(f"[need.n]\n{need}\n")
    assert (found.bound, found.proved) == (bound * NS, True)
    if found.figure.parts:
        assert sum(part.total for part in found.figure.parts) == found.bound


def test_losses_and_flags_break_a_proof():
    fast = NEEDS.replace("1000 ns", "90 ns").replace("40 ns", "0 ns", 1)
    found = bounds(read_model(fast + '[need.n]\nfrom = "source.s"\nto = "step.p.end"\nwithin = "9 us"\n', "m.toml"))
    assert found.needs["n"].proved
    dropped = bounds(read_model(fast.replace('"90 ns"', '"70 ns"') + '[need.n]\nof = "unit.u"\nlost = 0\n', "m.toml"))
    assert dropped.needs["n"].verdict is Verdict.AT_RISK
    assert "it works for 80 ns" in dropped.needs["n"].reason
    lossy = bounds(read_model(fast.replace('"90 ns"', '"70 ns"')
                              + '[need.n]\nfrom = "source.s"\nto = "isr.u.end"\nwithin = "9 us"\n', "m.toml"))  # fmt: skip
    assert not lossy.needs["n"].proved
    assert "may be lost at unit.u" in lossy.needs["n"].reason


def test_a_watchdog_with_a_window():
    dog = '[watchdog]\nfed_by = "isr.u.end"\ntimeout = "1300 ns"\nnot_before = "{}"\n'
    assert proved(dog.format("800 ns")).proved
    early = proved(dog.format("950 ns"))
    assert (early.proved, early.reason) == (False, "it can be fed again before its window opens")
    # the first feed: a period and the jitter after time zero, the unit and the response
    assert early.bound == (1000 + 40 + 80 + 10) * NS
    assert not proved(dog.format("800 ns").replace("1300", "1130")).proved  # fed exactly at the timeout is too late


def test_two_steps_that_take_one_flag_prove_nothing_for_either():
    text = (
        NEEDS
        + '[step.q]\npolls = "f"\ncost = "1 ns"\n[need.n]\nfrom = "isr.u.end"\nto = "step.q.start"\nwithin = "1 s"\n'
    )
    need = bounds(read_model(text, "m.toml")).needs["n"]
    assert not need.proved
    assert "step.p may take the flag f first" in need.reason


def test_the_way_of_causes_is_the_shortest():
    system = read_model(NEEDS, "m.toml")
    hops = system.graph.chain("source.s", "step.p.end")
    assert [hop.after for hop in hops] == ["unit.u.end", "isr.u.end", "step.p.start", "step.p.end"]
    assert [hop.kind for hop in hops] == ["serves", "serves", "sets", "ends"]
    assert system.graph.chain("step.p.end", "source.s") is None


def test_long_run_load_by_hand():
    found = bounds(read_model(NEEDS, "m.toml")).load
    shares = {share.who: (share.least, share.most) for share in found.shares}
    # 2 + 8 + 1 every 1000 at the most; at the least 5 and a chain of 1
    assert shares["isr.u"] == (Fraction(5 + 1, 1000), Fraction(11, 1000))
    assert shares["step.p"] == (0, Fraction(20, 1000))
    assert shares["loop.overhead"][1] == Fraction(4, 1000)
    assert found.most == sum(most for _, most in shares.values())


def test_a_need_without_a_way_waits_for_the_next():
    text = (
        NEEDS
        + '[step.t]\nevery = "5 us"\ncost = "1 ns"\n[need.n]\nfrom = "source.s"\nto = "step.t.start"\nwithin = "6 us"\n'
    )
    found = bounds(read_model(text, "m.toml"))
    late = found.steps["t"].late.most
    assert found.needs["n"].bound == 5000 * NS + late
    assert found.needs["n"].proved


RING = (
    '[unit.u]\non = "step.act.end"\ntakes = "100 ns"\nprimed = true\n'
    + isr("done", 0, ns(10), 'sets = "ready"', on='"unit.u"')
    + '[loop]\noverhead = "3 ns"\n[step.act]\npolls = "ready"\ncost = ["5 ns", "20 ns"]\n'
)


def test_the_one_token_of_a_ring_through_the_loop():
    found = bounds(read_model(head() + RING + '[step.rest]\ncost = "7 ns"\n', "m.toml"))
    act = found.steps["act"]
    # unit, chain, body, exit, the least of the step; nothing lies between them at best
    assert act.interval.least == (100 + 1 + 10 + 1 + 5) * NS
    # while it works its token is nowhere else: no routine interrupts it
    assert act.duration.most == 20 * NS
    # one pass without itself, the routine with its entry and exit, less the least of it up to the set
    assert found.flags["ready"].reaction.most == (3 + 7 + 13 - 11) * NS
    assert act.interval.most == (100 + 12 + 12 + 20) * NS
    assert sum(part.total for part in act.interval.parts) == act.interval.most
    assert not found.flags["ready"].overwritten
    assert not found.units["u"].lost
    assert found.load.least > 0


def test_a_ring_wakes_a_halt_that_its_flag_holds_off_and_no_other():
    for unless, known in (('{ unless = ["ready"] }', True), ("true", False)):
        found = bounds(read_model(head() + RING + f'[step.nap]\ncost = "0 ns"\nsleep = {unless}\n', "m.toml"))
        assert (found.loop_pass.most is not None) is known


def test_a_step_that_another_may_rob_of_its_flag_is_on_no_ring():
    found = bounds(read_model(head() + RING + '[step.thief]\npolls = "ready"\ncost = "1 ns"\n', "m.toml"))
    assert found.flags["ready"].overwritten or found.steps["act"].interval.most is None


def test_in_a_halt_comes_nothing_but_what_ends_it():
    sources = '[source.tick]\nevery = "1000 ns"\n' + isr("tick", 0, ns(5)) + gap("rx", 10) + isr("rx", 1, ns(1))
    loop = '[loop]\noverhead = "3 ns"\n[step.nap]\ncost = "0 ns"\nsleep = true\n'
    # two pieces of T ns together: tick (T + 2 + 2·999) // 1000 = 2 times 8, rx (T + 2 + 2·9) // 10 = 5 times 4
    assert bounds(read_model(head() + sources + loop, "m.toml")).loop_pass.most == (1000 + 3 + 2 * 8 + 5 * 4) * NS


ERRAND = '[unit.u]\non = "step.{}"\ntakes = "100 ns"\n' + isr("done", 0, ns(10), 'sets = "ready"', on='"unit.u"')


def test_a_wait_for_what_the_same_pass_has_begun():
    loop = (
        '[loop]\noverhead = "3 ns"\n[step.go]\ncost = "4 ns"\n[step.mid]\ncost = "5 ns"\n'
        '[step.use]\nwaits = "ready"\ncost = "7 ns"\n'
    )
    found = bounds(read_model(head() + ERRAND.format("go.end") + loop, "m.toml"))
    # the unit, its routine with entry and body, and what is interrupted by it: 13 with its exit
    assert found.steps["use"].duration.most <= (100 + 12 + 7 + 2 * 13) * NS
    assert found.loop_pass.most <= (3 + 4 + 5 + 100 + 12 + 7 + 2 * 13) * NS
    assert not found.units["u"].lost
    assert not found.isrs["done"].lost
    assert not found.flags["ready"].overwritten
    # the wait may not have begun: a pass without the wait
    assert found.flags["ready"].reaction.most <= (3 + 4 + 5 + 13) * NS
    itself = '[loop]\noverhead = "3 ns"\n[step.use]\nevery = "1 us"\nwaits = "ready"\ncost = "7 ns"\n'
    found = bounds(read_model(head() + ERRAND.format("use.start") + itself, "m.toml"))
    assert found.steps["use"].duration.most is not None
    assert not found.flags["ready"].overwritten


@pytest.mark.parametrize(
    "steps",
    [
        '[step.use]\nwaits = "ready"\ncost = "7 ns"\n[step.go]\ncost = "4 ns"\n',  # it waits before anything has begun
        '[step.go]\nevery = "1 us"\ncost = "4 ns"\n[step.use]\nwaits = "ready"\ncost = "7 ns"\n',
        '[step.go]\ncost = "4 ns"\n[step.use]\npolls = "other"\nwaits = "ready"\ncost = "7 ns"\n',
        '[step.go]\ncost = "4 ns"\n[step.use]\nwaits = "ready"\ncost = "7 ns"\n[step.thief]\npolls = "ready"\ncost = "1 ns"\n',
    ],
)
def test_what_is_no_errand_of_the_pass_is_waited_for_without_end(steps):
    other = gap("x", 900) + isr("x", 1, ns(1), 'sets = "other"')
    loop = '[loop]\noverhead = "3 ns"\n' + steps
    assert (
        bounds(read_model(head() + ERRAND.format("go.end") + other + loop, "m.toml")).steps["use"].duration.most is None
    )
