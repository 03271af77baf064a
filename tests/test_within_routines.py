"""Routines that do more each n-th time, and events in the middle of their bodies."""

import re
from fractions import Fraction

import pytest

from boards import BOARD as WHOLE
from boards import UNTIL, capture_of, first, on_board
from calling import tachys
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.compare.rhythm import ordinal
from tachys.checking.compare.sentences import mend_of
from tachys.checking.correct.fitting import fit
from tachys.demo.analyser import busy, pulses
from tachys.demo.machine import More, Routine
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.writing import timeline_bytes
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

NS, US = 1000, 10**6
MOST = RunOptions("most", "together", "gap")
CORE = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 3\nentry = "0 ns"\nexit = "0 ns"\n'
SAMPLE = (
    CORE + '[source.s]\nevery = "100 ns"\noffset = "0 ns"\n[isr.s]\non = "source.s"\nlevel = 1\ncost = "10 ns"\n'
    'nth = { n = 4, first = 2, cost = "30 ns", sets = ["block"] }\n'
    '[loop]\noverhead = "1 ns"\n[step.copy]\npolls = "block"\ncost = "5 ns"\n'
)


def told(text, event, until, how=MOST):
    """When an event comes, in ns."""
    system = read_model(text, "m.toml")
    _, seen, index = play_whole(system, how, until * NS)
    from tachys.simulation.follow import event_times

    return [int(each) // NS for each in event_times(seen, index, event)]


# --- each n-th -------------------------------------------------------------------------------------------------------


def test_each_fourth_run_does_more():
    assert told(SAMPLE, "isr.s.end", 1000)[:6] == [10, 140, 210, 310, 410, 540]
    assert told(SAMPLE, "isr.s.nth", 1000) == [140, 540, 940]
    assert told(SAMPLE, "step.copy.start", 1000) == [140, 540, 940]  # the look that was due at 100, 500, 900


def test_without_first_it_is_the_fourth_or_any():
    text = SAMPLE.replace("first = 2, ", "")
    assert told(text, "isr.s.nth", 1000) == [340, 740]
    begun = {told(text, "isr.s.nth", 1000, RunOptions("most", "drawn", "gap", seed=seed))[0] for seed in range(20)}
    assert begun == {40, 140, 240, 340}


def test_of_so_many_runs_in_a_row_few_are_long():
    # 150 ns below it: 150 + 2 * 10 + 30 = 200, and the third comes as it ends; each run long it would be 270
    text = SAMPLE + '[source.d]\nevery = "2 us"\n[isr.d]\non = "source.d"\nlevel = 2\ncost = "150 ns"\n'
    paper = bounds(read_model(text, "m.toml"))
    assert paper.isrs["d"].response.most == 200 * NS
    assert paper.isrs["s"].response.most == 40 * NS
    assert paper.isrs["s"].span.least == 10 * NS
    share = next(each for each in paper.load.shares if each.who == "isr.s")
    assert share.most == Fraction(10, 100) + Fraction(30, 400)
    assert share.least == Fraction(10, 100) + Fraction(30, 400)
    assert paper.reach.events.curve("isr.s.nth").least_span(2) >= 400 * NS - 40 * NS
    assert simulate(read_model(text, "m.toml"), 20 * US, MOST).stats("isr.d.response").most == 200 * NS


def test_needs_of_the_nth_run():
    text = SAMPLE + (
        '[need.soon]\nfrom = "source.s"\nto = "isr.s.nth"\nwithin = "50 ns"\n'
        '[need.copied]\nfrom = "isr.s.nth"\nto = "step.copy.end"\nwithin = "60 ns"\n'
        '[need.pace]\nof = "isr.s.nth"\nevery = "400 ns"\ngive_or_take = "9 %"\n'
    )
    system = read_model(text, "m.toml")
    paper, seen = bounds(system), simulate(system, 20 * US, MOST).needs
    assert paper.needs["soon"].figure.most == 40 * NS
    assert (seen["soon"].seen.count, seen["soon"].seen.most) == (50, 40 * NS)  # the others go nowhere
    assert paper.needs["copied"].verdict == "met"
    assert seen["copied"].seen.count == 50
    assert paper.needs["pace"].verdict == "met"


# --- moments ---------------------------------------------------------------------------------------------------------

CONTROL = (
    CORE + '[source.c]\nevery = "1 us"\noffset = "0 ns"\n[unit.adc]\non = "source.c"\ntakes = "50 ns"\n'
    '[isr.control]\non = "unit.adc"\nlevel = 1\ncost = "200 ns"\nmoments = { duty = ["50 ns", "60 ns"] }\n'
    '[source.f]\nevery = "1 us"\noffset = "80 ns"\n[isr.f]\non = "source.f"\nlevel = 0\ncost = "7 ns"\n'
    '[need.duty]\nfrom = "source.c"\nto = "isr.control.duty"\nwithin = "130 ns"\n'
)


def test_a_moment_lies_so_much_cpu_time_behind_the_first_instruction():
    # 50 to the routine, 60 into it, 7 of the other in between: and not its end, 257
    assert told(CONTROL, "isr.control.duty", 3000) == [117, 1117, 2117]
    system = read_model(CONTROL, "m.toml")
    paper = bounds(system).needs["duty"]
    assert (paper.figure.least, paper.figure.most, paper.verdict) == (100 * NS, 117 * NS, "met")
    seen = simulate(system, 20 * US, MOST).needs["duty"]
    assert (seen.seen.most, seen.misses) == (117 * NS, 0)


def test_what_stands_on_a_moment_begins_then():
    text = CONTROL + '[unit.out]\non = "isr.control.duty"\ntakes = "20 ns"\n'
    assert told(text, "unit.out.end", 1500) == [137, 1137]
    # a moment at the end comes before that, and one at 0 behind the first instruction
    text = CONTROL.replace('duty = ["50 ns", "60 ns"]', 'duty = "200 ns", first = "0 ns"')
    assert told(text, "isr.control.duty", 1500) == [257, 1257]
    assert told(text, "isr.control.first", 1500) == [50, 1050]


def test_both_machines_agree():
    text = SAMPLE + CONTROL.partition('exit = "0 ns"\n')[2].replace('["50 ns", "60 ns"]', '"60 ns"')
    text = text.replace('on = "unit.adc"', 'on = "source.c"')
    text = text.replace('on = "unit.adc"', 'on = "source.c"')
    assert_agreement(read_model(text, "m.toml"), MOST, 30 * US)


@pytest.mark.parametrize(("change", "wrong"), [
    (('duty = ["50 ns", "60 ns"]', 'duty = "201 ns"'), "lies behind the end of the body"),
    (('duty = ["50 ns", "60 ns"]', 'end = "20 ns"'), '"end" cannot name a moment'),
    (("isr.control.duty", "isr.control.dutty"), 'did you mean "isr.control.duty"'),
])  # fmt: skip
def test_what_is_no_moment_is_refused(change, wrong):
    with pytest.raises(InputError, match=wrong):
        read_model(CONTROL.replace(*change), "m.toml")


# --- on a board ------------------------------------------------------------------------------------------------------

BOARD = """
[source.sample]
every = "500 us"
tolerance = "100 ppm"
[isr.sample]
on = "source.sample"
level = 1
cost = ["12 us", "15 us"]
nth = { n = 16, cost = ["9 us", "11 us"], sets = ["block"] }
moments = { written = ["4 us", "5 us"] }
[step.block]
polls = "block"
cost = ["40 us", "60 us"]
[need.written]
from = "source.sample"
to = "isr.sample.written"
within = "60 us"
[need.load]
load = "5 %"
of = ["isr.sample"]
[probe.D2]
shows = "isr.sample"
[probe.D3]
shows = "isr.sample.written"
edge = "rise"
[probe.D4]
shows = "source.sample"
edge = "rise"
"""


def sampled(more, written=(4_200_000, 4_800_000), model=BOARD, seed=1):
    samples = list(range(17 * US, UNTIL, 500 * US))
    sample = Routine("sample", 1, samples, (12_300_000, 14_700_000), sets=(), more=more, marks=(("written", written),))
    return on_board(model, seed, False, (), lambda truth: {
        "D2": busy(truth, "sample"), "D4": pulses(samples, 30 * US),
        "D3": pulses([at for name, at in truth.marks if name == "sample.written"], 2 * US)},
        routines=(sample,))  # fmt: skip


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize(("fault", "named"), [
    ("none", []),
    ("longer each 16th", [("isr.sample", "nth-longer")]),
    ("each 8th", [("isr.sample", "cost-longer")]),
    ("every run longer", [("isr.sample", "cost-longer")]),
    ("written late", [("isr.sample", "moment-later")]),
])  # fmt: skip
def test_each_nth_run_on_a_board(fault, named, seed):
    cost = (15_200_000, 15_900_000) if fault == "longer each 16th" else (9_200_000, 10_800_000)
    more = More(8 if fault == "each 8th" else 16, 5, cost)
    if fault == "every run longer":
        more = More(1, 1, (4_000_000, 5_000_000))
    written = (7_100_000, 7_900_000) if fault == "written late" else (4_200_000, 4_800_000)
    result, _ = sampled(more, written, seed=seed)
    assert first(result) == named, result.findings
    assert result.needs["written"].seen.count > 700
    if fault == "each 8th":
        assert "each 8th run takes" in result.findings[0].text


def test_an_nth_run_that_no_model_has_is_found_and_written():
    plain = BOARD.replace('nth = { n = 16, cost = ["9 us", "11 us"], sets = ["block"] }\n', "")
    plain = plain.replace('[step.block]\npolls = "block"\ncost = ["40 us", "60 us"]\n', "")
    result, _ = sampled(More(16, 5, (9_200_000, 10_800_000)), model=plain)
    assert first(result) == [("isr.sample", "cost-longer")]
    assert "each 16th run takes 10" in result.findings[0].text
    capture = result.capture
    fitted = fit(WHOLE + plain, "m.toml", [capture], "2026-11-27")
    change = next(each for each in fitted.changes if each.key == "isr.sample.nth")
    assert change.becomes.startswith("{n = 16, cost = [")
    nth = read_model(fitted.text, "m.toml").isr("sample").nth
    assert nth.n == 16
    assert 9 * US <= nth.cost.least <= nth.cost.most <= 11 * US
    assert check(read_model(fitted.text, "m.toml"), capture).findings == ()


def test_a_moment_is_written_to_a_timeline_and_found_again():
    model = read_model(WHOLE + BOARD, "m.toml")
    how = RunOptions("drawn", "drawn", seed=4)
    capture = read_vcd([timeline_bytes(model, how, (0, 20 * 10**9), "played.vcd", probes=True)], "played.vcd")
    result = check(model, capture)
    assert result.findings == ()
    assert result.needs["written"].seen.count >= 39


MOMENTS = """
tachys = 1
[core]
clock = "8 MHz"
levels = 2
entry = "4 cycles"
exit = "4 cycles"
[source.beat]
gap = "640 us"
[source.call]
gap = "300 us"
[isr.call]
on = "source.call"
level = 0
cost = ["10 us", "14 us"]
[isr.beat]
on = "source.beat"
level = 1
cost = ["90 us", "97 us"]
moments = { up = ["20 us", "24 us"], down = ["50 us", "58 us"] }
pins = { gate = [{ does = "high", at = "up" }, { does = "low", at = "down" }] }
[pin.gate]
first = "low"
[need.pulse]
from = "pin.gate.rise"
to = "pin.gate.fall"
within = ["26 us", "54 us"]
[need.rest]
from = "isr.beat.down"
to = "isr.beat.end"
within = "70 us"
[probe.BEAT]
shows = "isr.beat"
[probe.CALL]
shows = "isr.call"
[probe.GATE]
shows = "pin.gate"
"""


def test_from_one_moment_of_a_routine_to_another_and_to_its_end(tmp_path):
    # up to down: 50 - 24 = 26 at least, 58 - 20 = 38 at most, and one call of 14 with entry and exit, 1 us, on top
    found = bounds(read_model(MOMENTS, "m.toml"))
    pulse, rest = found.needs["pulse"].figure, found.needs["rest"].figure
    assert (pulse.least, pulse.most) == (26 * US, (38 + 15) * US)
    assert (rest.least, rest.most) == ((90 - 58) * US, (97 - 50 + 15) * US)
    (tmp_path / "m.toml").write_text(MOMENTS)
    played = tachys(tmp_path, "simulate", "m.toml", "--for", "2 s", "--probes", "-o", "m.vcd").stdout
    assert re.search(r"pulse .* 5[0-3]\.\d\d us +0  met", played)
    told = tachys(tmp_path, "check", "m.toml", "m.vcd", "--figures").stdout
    assert "no need missed, nothing refuted" in told
    assert re.search(r"pulse .* 5[0-3]\.\d\d us  0 of \d{4}  met", told)
    assert re.search(r"rest .* us  0 of \d{4}  met", told)
    assert re.search(r"isr\.beat +moments\.down +50\.00 to 58\.00 us +5\d\.\d\d to 5\d\.\d\d us .* agrees", told)


COUNTED = """
tachys = 1
[core]
clock = "48 MHz"
nesting = false
levels = 2
entry = "0.5 us"
exit = "0.5 us"
[source.tick]
every = "500 us"
[isr.tick]
on = "source.tick"
level = 1
cost = ["19 us", "21 us"]
nth = { n = 4 }
[isr.knot]
on = "isr.tick.nth"
level = 0
cost = ["49 us", "51 us"]
[probe.D0]
shows = "isr.tick"
[probe.D1]
shows = "isr.knot"
"""


@pytest.mark.parametrize(("n", "code"), [(3, "runs-too-often"), (4, ""), (5, "comes-too-seldom")])
def test_what_another_run_brings_about_says_which(n, code):
    """No run of the tick itself tells: only what follows from it comes more or less often."""
    ticks = [(at, at + 20 * US) for at in range(100 * US, 200_000 * US, 500 * US)]
    knots = [(end + US, end + 51 * US) for _, end in ticks[n - 1 :: n]]
    found = check(read_model(COUNTED, "m.toml"), capture_of({"D0": ticks, "D1": knots}, 200_000 * US)).findings
    assert [(each.code, each.about) for each in found] == ([(code, "isr.knot")] if code else [])
    for each in found:
        assert f"it follows each {ordinal(n)} run of isr.tick, by the model each 4th" in each.text
        assert mend_of(each.code, each.text).startswith("look at what counts its runs")
