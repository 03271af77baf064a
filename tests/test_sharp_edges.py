"""Small cases on whose edge a rule turns: each fails if one comparison, one term or one branch is left out."""

from fractions import Fraction

from msgspec.structs import replace

from tachys.capture.inspecting import inspect, spans
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.out.pooling import pool
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.statistics import taken
from tachys.simulation.writing import timeline_bytes
from tachys.worstcase.analysis import bounds
from tachys.worstcase.lint import lint

NS = 1000
HEAD = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\nentry = "2 ns"\nexit = "1 ns"\n'


def paper(text, head=HEAD):
    return bounds(read_model(head + text, "m.toml"))


def played(text, end, head=HEAD, **how):
    return simulate(read_model(head + text, "m.toml"), end * NS, RunOptions("most", "together", "gap", **how))


def isr(name, on, cost, more=""):
    return f'[isr.{name}]\non = "{on}"\ncost = "{cost} ns"\n{more}\n'


# --- bounds ----------------------------------------------------------------------------------------------------------


def test_an_event_at_the_very_instant_of_the_acceptance_finds_the_memory_full():
    # a takes 2 + 7 + 1: b is accepted at 10, just as its next event comes
    text = '[source.a]\ngap = "1 us"\n[source.b]\ngap = "{} ns"\n' + isr("a", "source.a", 7) + isr("b", "source.b", 1)
    assert paper(text.format(10)).isrs["b"].lost
    assert not paper(text.format(11)).isrs["b"].lost


def test_the_end_of_an_activation_is_paid_by_who_comes_after():
    # before b: a with entry 2, cost 7, exit 1; then its own entry 2
    text = '[source.a]\ngap = "1 us"\n[source.b]\ngap = "1 us"\n' + isr("a", "source.a", 7) + isr("b", "source.b", 1)
    found = paper(text.replace("b]\non", "b]\nlevel = 1\non"))
    assert found.isrs["b"].latency.most == (2 + 7 + 1 + 2) * NS
    assert found.load.shares[0].most == Fraction(10, 1000)


def test_late_arrival_waits_for_a_longer_chain():
    """With late arrival an entry is taken over, but a chain of 9 that has begun is 7 longer than the entry of 2."""
    head = HEAD + 'chain = "9 ns"\nlate_arrival = true\n'
    text = '[source.a]\ngap = "1 us"\n[source.b]\ngap = "1 us"\n' + isr("a", "source.a", 1)
    found = paper(text + isr("b", "source.b", 5, "level = 1"), head)
    assert found.isrs["a"].latency.most == 9 * NS


def test_a_unit_that_is_restarted_may_stay_away_for_ever():
    text = '[source.s]\nevery = "10 ns"\n[unit.u]\non = "source.s"\ntakes = "{} ns"\nbusy = "restart"\n'
    text += '[watchdog]\nfed_by = "unit.u"\ntimeout = "1 us"\n'
    starved = paper(text.format(15))
    assert starved.reach.gap("unit.u.end") is None
    assert not starved.needs["watchdog"].proved
    assert played(text.format(15), 5000).needs["watchdog"].verdict is Verdict.MISSED
    assert paper(text.format(9)).reach.gap("unit.u.end") == 19 * NS


def test_a_step_in_place_of_a_routine_may_be_seen_a_pass_late_and_done_a_pass_later():
    """The flag may be set just after the look, so two passes lie between the event and the end of the work."""
    text = '[source.a]\ngap = "1 ms"\n[source.b]\ngap = "1 ms"\n' + isr("a", "source.a", 10, 'deadline = "{} ns"')
    text += isr("b", "source.b", 1, "level = 1") + '[loop]\noverhead = "100 ns"\n'
    one = paper(text.replace("{}", "9999"))
    latency, whole = one.isrs["a"].latency.most // NS, one.loop_pass.most // NS
    codes = {
        limit: {remark.code for remark in lint(paper(text.replace("{}", str(limit))))}
        for limit in (latency + 10 + 2 * whole, latency + 10 + 2 * whole - 1)
    }
    assert ["step-would-do" in found for found in codes.values()] == [True, False]


def test_a_window_that_ends_with_a_look_holds_what_comes_at_that_instant():
    """Acceptance goes before the look: what arrives at the very instant of a reaction's end delays it."""
    text = '[source.s]\nevery = "20 ns"\n[source.t]\nevery = "2 us"\n' + isr("r", "source.s", 6, "level = 1")
    text += isr("q", "source.t", 0, 'sets = "f"') + '[loop]\noverhead = "4 ns"\n[step.p]\ncost = "0 ns"\npolls = "f"\n'
    head = HEAD.replace('entry = "2 ns"', 'entry = "0 ns"').replace('exit = "1 ns"', 'exit = "12 ns"')
    assert paper(text, head).flags["f"].reaction.most >= 178 * NS


def test_a_start_at_the_very_instant_of_an_end_may_be_lost_on_a_chip():
    text = '[source.s]\nevery = "{} ns"\n[unit.u]\non = "source.s"\ntakes = "20 ns"\n'
    assert paper(text.format(20)).units["u"].lost
    assert not paper(text.format(21)).units["u"].lost
    assert played(text.format(20), 1000).lost["unit.u"] == 0  # the simulation lets it end first


def test_all_units_come_to_rest_before_any_of_them_tells_its_end():
    """a, written first, starts b at the instant at which b ends; so does b at the instant at which a ends."""
    text = '[source.s]\nevery = "20 ns"\n[unit.a]\non = "source.s"\ntakes = "5 ns"\n[unit.b]\non = "unit.a"\ntakes = "20 ns"\n'
    result = played(text, 2000)
    assert result.lost["unit.b"] == 0
    assert result.counted["unit.b.time"].count == 99


def test_a_deeper_queue_than_is_needed_changes_nothing():
    text = '[source.s]\nburst = {{ count = 4, spaced = "10 ns", every = "400 ns" }}\n[unit.u]\non = "source.s"\n'
    text += 'takes = "25 ns"\nbusy = "queue"\ndepth = {}\n' + isr("r", "unit.u", 30, "pending = 3")
    found = [paper(text.format(depth)) for depth in (3, 8, 100)]
    # the fourth start, at 30, ends at 100
    assert {each.units["u"].time.most for each in found} == {70 * NS}
    assert len({each.isrs["r"].response.most for each in found}) == 1


def test_a_ring_left_by_its_start_gives_its_round_to_the_start_alone():
    text = '[unit.u]\non = "isr.r.start"\ntakes = "30 ns"\nprimed = true\n[isr.r]\non = "unit.u"\ncost = ["0 ns", "10 ns"]\n'
    reach = paper(text).reach
    assert reach.events.curve("isr.r.start").least_span(2) == 32 * NS
    assert reach.events.curve("isr.r.end").least_span(2) == 22 * NS  # a body of 10, then one of 0


def test_a_ring_that_turns_faster_than_its_unit_works_starts_it_no_faster():
    text = '[unit.u]\non = "isr.r.end"\ntakes = "36 ns"\nprimed = true\n' + isr("r", "unit.u.start", 5)
    found = paper(text)
    assert found.reach.events.curve("unit.u.start").least_span(2) == 36 * NS
    assert found.isrs["r"].latency.most is not None


def test_a_ring_tells_how_long_a_round_can_take():
    text = '[unit.u]\non = "isr.r.end"\ntakes = ["90 ns", "100 ns"]\nprimed = true\n' + isr("r", "unit.u", 5)
    text += '[need.n]\nof = "isr.r.start"\nevery = "100 ns"\ngive_or_take = "10 %"\n[watchdog]\nfed_by = "isr.r.end"\ntimeout = "108 ns"\n'
    found = paper(text)
    assert found.needs["n"].bound == 7 * NS  # 100 + 2 + 5 at most, 97 at least
    assert found.needs["n"].proved
    assert found.needs["watchdog"].proved
    assert found.load.least == Fraction(8, 107)


def test_chains_may_be_long():
    text = '[source.s]\nevery = "1 ms"\n[unit.u0]\non = "source.s"\ntakes = "1 ns"\n'
    text += "".join(f'[unit.u{n}]\non = "unit.u{n - 1}"\ntakes = ["1 ns", "2 ns"]\n' for n in range(1, 1500))
    text += isr("r", "unit.u1499", 5) + '[need.n]\nof = "isr.r.end"\nevery = "1 ms"\ngive_or_take = "1 %"\n'
    assert paper(text).needs["n"].bound == 1499 * NS


# --- simulation ------------------------------------------------------------------------------------------------------

SLOW = '[source.s]\nevery = "100 ns"\noffset = "0 ns"\n' + isr("r", "source.s", 10)


def test_a_watchdog_that_is_never_fed_again_is_missed_at_the_end():
    text = '[source.s]\nevery = "1 us"\noffset = "100 ns"\n' + isr("r", "source.s", 10)
    text += '[watchdog]\nfed_by = "isr.r.end"\ntimeout = "1100 ns"\n'
    kept, open_ = played(text, 2300).needs["watchdog"], played(text.replace("1100", "1005"), 1113 + 1004 + 1).needs
    assert kept.misses == 0
    assert [miss.kind for miss in open_["watchdog"].first] == []
    left = played(text.replace("1100", "900"), 112 + 900).needs["watchdog"]
    assert [(miss.kind, miss.at) for miss in left.first] == [("open", 112 * NS)]


def test_a_first_feed_in_time_does_not_refute_a_watchdog_that_cannot_hold():
    """Paper speaks of the time between two feeds; that from the start to the first may be short."""
    text = '[source.s]\nevery = "1264 ns"\noffset = "33 ns"\n[watchdog]\nfed_by = "source.s"\ntimeout = "685 ns"\n'
    short, long = (played(text, end).needs["watchdog"] for end in (400, 800))
    assert (short.verdict, short.misses, short.seen.count) == (Verdict.MISSED, 0, 1)
    assert (long.verdict, long.misses) == (Verdict.MISSED, 1)


def test_a_watchdog_fed_before_its_window_opens_is_missed():
    text = SLOW + '[watchdog]\nfed_by = "isr.r.end"\ntimeout = "1 us"\nnot_before = "{} ns"\n'
    assert played(text.format(100), 1000).needs["watchdog"].misses == 0
    early = played(text.format(101), 1000).needs["watchdog"]
    assert (early.misses, early.first[0].kind, early.first[0].value) == (9, "early", 100 * NS)


def test_each_delay_beyond_the_jitter_of_those_before_it_is_a_miss():
    # every third event of s meets the 30 of l's guard: 2, 2, 32, 2, 2, 32 …
    text = '[source.s]\nevery = "100 ns"\noffset = "10 ns"\n[source.l]\nevery = "300 ns"\noffset = "206 ns"\n'
    text += isr("s", "source.s", 5) + isr("l", "source.l", 40, 'level = 1\nguard = { level = 0, for = "all" }')
    text += '[need.j]\nof = "isr.s.start"\njitter = "{} ns"\n'
    late = played(text.replace("{}", "20"), 3000).needs["j"]
    worst = late.value
    assert worst > 20 * NS
    # the tenth of a run of ten: after the first long one, every short one lies too far from it as well
    assert late.misses == 30 - 2
    assert played(text.replace("{}", str(worst // NS)), 3000).needs["j"].misses == 0


def test_what_happens_late_in_a_long_run_is_as_exact_as_at_its_beginning():
    """Beyond 2^53 ps no float holds a picosecond: three hours in, delays and loads are still whole."""
    text = '[source.s]\nevery = "1000 s"\noffset = "9101000000000001 ps"\n' + isr("r", "source.s", 5, 'sets = "f"')
    text += '[loop]\noverhead = "1 ns"\n[step.p]\npolls = "f"\ncost = "3 ns"\n[step.nap]\nsleep = { unless = "f" }\n'
    text += '[need.j]\nof = "step.p.end"\njitter = "1 ns"\n[need.l]\nload = "99 %"\nover = "10 ns"\n'
    result = played(text, 10_000 * 10**9)
    assert result.needs["j"].misses == 0
    assert result.needs["j"].seen.most % NS == 0
    assert result.needs["l"].value == 1


def test_a_waking_counts_up_to_the_end_of_the_run():
    text = HEAD + 'wake = "50 ns"\n[source.s]\nevery = "100 ns"\noffset = "80 ns"\n' + isr("r", "source.s", 3)
    text += '[loop]\noverhead = "5 ns"\n[step.nap]\nsleep = true\n'
    run, _, index = play_whole(read_model(text, "m.toml"), RunOptions("most"), 100 * NS)
    found = taken(run.memory, index, 100 * NS)
    # a pass of 5, asleep until 80, and 20 of the 50 of waking
    assert (found["asleep"], found["wake"], sum(found.values())) == (75 * NS, 20 * NS, 100 * NS)


def test_who_is_entered_pays_for_the_entry_that_it_takes_over():
    head = HEAD.replace('entry = "2 ns"', 'entry = "10 ns"') + "late_arrival = true\n"
    text = '[source.h]\nevery = "1 us"\noffset = "15 ns"\n[source.l]\nevery = "1 us"\noffset = "10 ns"\n'
    text += isr("h", "source.h", 3) + isr("l", "source.l", 4, "level = 1")
    run, _, index = play_whole(read_model(head + text, "m.toml"), RunOptions("most"), 40 * NS)
    found = taken(run.memory, index, 40 * NS)
    # h takes the entry of l from 10 to 20; at 23 a chain leads to l at 34, of which it pays what is longer than an entry
    assert (found["isr.h.overhead"], found["isr.l.overhead"]) == (10 * NS + 1 * NS, 10 * NS + 1 * NS)


def test_a_proved_load_is_not_missed_because_a_run_ends_somewhere():
    text = SLOW + '[need.n]\nload = "13 %"\n'
    result = played(text, 110)  # two events in 110: 23 of 110 are taken
    assert paper(text).needs["n"].proved
    assert result.load > Fraction(13, 100)
    assert result.needs["n"].misses == 0
    assert played(text.replace("13 %", "12 %"), 100_000).needs["n"].misses == 1


# --- check -----------------------------------------------------------------------------------------------------------

PROBES = '[probe.s]\nshows = "source.s"\nedge = "rise"\n[probe.r]\nshows = "isr.r"\n'


def checked(text, needs, end=3000, change=None):
    """A play of ``text`` as a capture, checked against it with ``needs``, and perhaps another figure."""
    shown = read_model(HEAD + text + PROBES, "m.toml")
    vcd = timeline_bytes(shown, RunOptions("most", "together", "gap"), (0, end * NS), "run.vcd", probes=True)
    judged = text.replace(*change) if change else text
    return check(read_model(HEAD + judged + PROBES + needs, "m.toml"), read_vcd([vcd], "run.vcd"))


def test_a_capture_shows_a_load_in_a_window_a_late_feed_and_a_jitter_that_are_too_much():
    text = '[source.s]\nburst = { count = 2, spaced = "20 ns", every = "500 ns" }\n' + isr(
        "r", "source.s", 18, "pending = 2"
    )
    needs = '[need.{0}]\nload = "{1} %"\nover = "40 ns"\n'
    assert checked(text, needs.format("n", 50)).needs["n"].verdict is Verdict.MISSED
    assert checked(text, needs.format("n", 100)).needs["n"].verdict is Verdict.MET
    dog = '[watchdog]\nfed_by = "isr.r.end"\ntimeout = "{} ns"\n'
    assert checked(text, dog.format(300)).needs["watchdog"].verdict is Verdict.MISSED
    assert checked(text, dog.format(600)).needs["watchdog"].misses == ()
    early = dog.format(600) + 'not_before = "30 ns"\n'
    assert checked(text, early).needs["watchdog"].verdict is Verdict.MISSED
    jitter = '[need.j]\nof = "isr.r.start"\njitter = "{} ns"\n'
    assert checked(text, jitter.format(1)).needs["j"].verdict is not Verdict.MISSED
    held = text.replace('"18 ns"', '"28 ns"')  # the second of a burst waits for the first
    assert checked(held, jitter.format(5)).needs["j"].verdict is Verdict.MISSED
    assert checked(held, jitter.format(15)).needs["j"].verdict is not Verdict.MISSED


def test_met_in_one_capture_and_unseen_in_another_is_met():
    shown = checked(SLOW, '[need.n]\nfrom = "source.s"\nto = "isr.r.end"\nwithin = "50 ns"\n')

    def pooled(*verdicts):
        each = [replace(shown, needs={"n": replace(shown.needs["n"], verdict=verdict)}) for verdict in verdicts]
        return {str(pool(order).needs["n"].verdict) for order in (each, each[::-1])}

    assert pooled(Verdict.MET, Verdict.UNSEEN) == {"met"}
    assert pooled(Verdict.UNSEEN, Verdict.UNSEEN) == {"unseen"}
    assert pooled(Verdict.MET, Verdict.AT_RISK) == {"at risk"}
    assert pooled(Verdict.MET, Verdict.UNSEEN, Verdict.MISSED) == {"missed"}


def test_the_time_to_wake_is_no_guard():
    """An event that comes while the core sleeps waits for it to wake: the step that slept held nothing off."""
    text = '[source.s]\nevery = "200 ns"\noffset = "90 ns"\n' + isr("r", "source.s", 10)
    text += '[loop]\noverhead = "5 ns"\n[step.nap]\nsleep = true\n'
    head = HEAD + 'wake = "60 ns"\n'
    system = read_model(head + text + PROBES + '[probe.nap]\nshows = "step.nap"\n', "m.toml")
    vcd = timeline_bytes(system, RunOptions("most", "together", "gap"), (0, 5000 * NS), "run.vcd", probes=True)
    result = check(system, read_vcd([vcd], "run.vcd"))
    assert result.isrs["r"].latency.most >= 60 * NS
    assert [finding.code for finding in result.findings] == []


def test_the_last_cause_counts_for_an_age_on_a_capture():
    """A flag set at 10 and again at 40, looked at from 100 on: the need counts from the last, by age."""
    text = '[source.s]\nburst = { count = 2, spaced = "30 ns", every = "400 ns" }\n' + isr(
        "r", "source.s", 5, 'sets = "f"'
    )
    text += '[loop]\noverhead = "5 ns"\n[step.p]\npolls = "f"\ncost = "5 ns"\n[step.q]\ncost = "80 ns"\n'
    probes = PROBES + '[probe.p]\nshows = "step.p"\n'
    shown = read_model(HEAD + text + probes, "m.toml")
    vcd = timeline_bytes(shown, RunOptions("most", "together", "gap"), (0, 4000 * NS), "run.vcd", probes=True)
    needs = '[need.n]\nfrom = "source.s"\nto = "step.p.start"\nwithin = "300 ns"\n'
    needs += needs.replace("need.n", "need.a") + "age = true\n"
    result = check(read_model(HEAD + text + probes + needs, "m.toml"), read_vcd([vcd], "run.vcd"))
    played_ = simulate(read_model(HEAD + text + needs, "m.toml"), 4000 * NS, RunOptions("most", "together", "gap"))
    for name in ("n", "a"):
        assert abs(result.needs[name].seen.most - played_.needs[name].seen.most) <= result.capture.resolution
        assert abs(result.needs[name].seen.count - played_.needs[name].seen.count) <= 1  # time zero has no edge
    # what comes again before the look is lost to the first, and by age only the last counts
    assert {miss.kind for miss in result.needs["n"].misses} == {"lost"}
    assert result.needs["a"].misses == ()
    assert result.needs["a"].seen.mean < result.needs["n"].seen.mean - 10 * NS


# --- captures --------------------------------------------------------------------------------------------------------

VCD = "$timescale 1 ns $end\n$var wire 1 a one $end\n$var wire 1 ab two $end\n$enddefinitions $end\n"


def test_a_cut_identifier_is_not_the_shorter_one_that_it_begins_with():
    whole = (VCD + "#0\n0a\n0ab\n#5\n1a\n#9\n1ab\n").encode()
    assert read_vcd([whole], "w.vcd").signals["two"].value.tolist() == [0, 1]
    cut = read_vcd([whole[:-2]], "c.vcd")  # "1a" is left of the last line
    assert cut.signals["one"].value.tolist() == [0, 1]
    assert cut.signals["one"].at.tolist() == [0, 5 * NS]
    assert cut.signals["two"].value.tolist() == [0]
    assert any("cut off" in remark for remark in cut.remarks)


def test_a_span_from_a_line_to_itself_goes_to_its_next_edge():
    capture = read_vcd([(VCD + "#0\n0a\n0ab\n#5\n1a\n#7\n0a\n#15\n1a\n#18\n0a\n").encode()], "s.vcd")
    rise, fall, both = ("one", "rise"), ("one", "fall"), ("one", "both")
    assert spans(capture, rise, rise).after.tolist() == [10 * NS]
    assert spans(capture, rise, fall).after.tolist() == [2 * NS, 3 * NS]
    assert spans(capture, both, both).after.tolist() == [2 * NS, 8 * NS, 3 * NS]
    assert spans(capture, both, both).unanswered == 1


def test_a_pulse_across_an_unknown_stretch_is_no_pulse():
    text = VCD + "#0\n0a\n#5\n1a\n#9\nxa\n#12\n1a\n#20\n0a\n#30\n1a\n#33\n0a\n"
    (found,) = [line for line in inspect(read_vcd([text.encode()], "x.vcd")) if line.signal.name == "one"]
    assert (found.high.count, found.high.least, found.high.most) == (1, 3 * NS, 3 * NS)
    assert found.low.count == 1  # from 20 to 30


def test_a_load_of_some_is_told_on_paper_in_play_and_on_a_capture():
    text = '[source.s]\nevery = "100 ns"\n' + isr("r", "source.s", 18) + '[source.t]\nevery = "200 ns"\n'
    text += isr("q", "source.t", 8) + '[loop]\noverhead = "1 ns"\n[step.spin]\ncost = "3 ns"\n'
    one = '[need.n]\nload = "{} %"\nof = {}\n'
    for of, share in (('"interrupts"', 18 + 4), ('"isr.r"', 18), ('["isr.q"]', 4), ('["isr.q", "isr.r"]', 22)):
        judged = read_model(HEAD + text + one.format(50, of), "m.toml")
        # entries and exits come to no more than 5 ns a run
        assert share <= bounds(judged).needs["n"].bound * 100 <= share + 3 * 5
        assert share - 1 <= simulate(judged, 10**8).needs["n"].value * 100 <= share + 8
        assert checked(text, one.format(share / 2, of)).needs["n"].verdict is Verdict.MISSED
        assert checked(text, one.format(60, of)).needs["n"].verdict is Verdict.MET
    window = one.format(19, '"interrupts"') + 'over = "100 ns"\n'
    assert checked(text, window).needs["n"].verdict is Verdict.MISSED
    assert checked(text, window.replace("19 %", "100 %")).needs["n"].verdict is Verdict.MET
    spinning = read_model(HEAD + text, "m.toml")
    assert bounds(spinning).load.most == 1
    interrupts, loop, idle = bounds(spinning).load.groups
    assert interrupts.most + idle.most < 1 < interrupts.most + loop.most + idle.most
    # at most 3 of 4 ns of what is left
    assert {share.who: share.most for share in bounds(spinning).load.shares}["step.spin"] == Fraction(3, 4)
