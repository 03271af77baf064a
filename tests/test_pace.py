"""What runs too often, too seldom, not any more or unasked is named first, with the source and its likely mistake."""

import json

import pytest
from msgspec.structs import replace

from boards import capture_of
from calling import tachys
from tachys.capture.eventstream import read_event_stream
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.analyser import to_vcd
from tachys.demo.board import record
from tachys.demo.project import model_text
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict

MODEL = """
tachys = 1
[core]
clock = "16 MHz"
levels = 2
entry = "12 cycles"
exit = "10 cycles"
[clock.slow]
from = "core"
divide = 4
[source.tick]
timer = { clock = "slow", width = 16, prescale = 256, count = 125 }
[source.edge]
gap = "5 ms"
[source.start]
every = "2 ms"
[unit.adc]
on = "source.start"
takes = ["20 us", "25 us"]
[isr.both]
on = ["source.tick", "source.edge"]
level = 1
cost = ["4 us", "6 us"]
[isr.adc]
on = "unit.adc"
level = 0
cost = ["8 us", "12 us"]
sets = "ready"
[loop]
overhead = "2 us"
[step.use]
polls = "ready"
cost = ["30 us", "40 us"]
"""
MS, LENGTH = 10_000, 400  # tenths of a microsecond; milliseconds


def stream(tick=8 * MS, adc_until=LENGTH * MS, adc=True, unasked=0):
    told = []
    for at in range(7, LENGTH * MS, tick):
        if not 1900 <= at % (2 * MS) <= 2800:  # the other routine runs then, and puts this one off
            told += [(at, "isr.both,enter"), (at + 50, "isr.both,leave")]
    for at in range(2000, LENGTH * MS, 2 * MS):
        told.append((at, "source.start,mark"))
        if at < adc_until and adc:
            told += [(at, "unit.adc,enter"), (at + 220, "unit.adc,leave"), (at + 232, "isr.adc,enter"),
                     (at + 330, "isr.adc,leave"), (at + 360, "step.use,enter"), (at + 700, "step.use,leave")]  # fmt: skip
    for k in range(unasked):
        told += [(9_000 + k * 10 * MS, "step.use,enter"), (9_350 + k * 10 * MS, "step.use,leave")]
    lines = [f"{at},{what}" for at, what in sorted(told)]
    return "# unit = 100 ns\n" + "\n".join(lines) + "\n"


def first(**how):
    result = check(read_model(MODEL, "m.toml"), read_event_stream([stream(**how).encode()], "r.events"))
    return result.findings[0] if result.findings else None


def test_the_right_board_is_not_blamed():
    assert first() is None


def test_a_forgotten_prescaler_behind_a_shared_handler():
    found = first(tick=8 * MS // 256)
    assert (found.code, found.about) == ("runs-too-often", "isr.both")
    assert "likely source.tick: the prescaler is not written: it divides by 1, not by 256" in found.text


def test_a_timer_that_is_far_too_slow_is_judged_on_few_starts():
    found = first(tick=25 * 8 * MS)
    assert (found.code, found.about) == ("comes-too-seldom", "isr.both")


@pytest.mark.parametrize(("how", "code", "about"), [
    ({"adc_until": 207 * MS}, "comes-no-more", "unit.adc"),
    ({"unasked": 20}, "runs-unasked", "step.use"),
])  # fmt: skip
def test_a_stream_that_stops_and_a_step_without_its_flag(how, code, about):
    found = first(**how)
    assert (found.code, found.about) == (code, about)
    if code == "comes-no-more":
        assert "the last at 206.2 ms" in found.text


def row_unit_without(lines, *, faulty):
    """(the model without the probes of these lines, a capture without them)."""
    system = read_model(model_text(), "row_unit.toml")
    capture = record(faulty=faulty)
    kept = {name: levels for name, levels in capture.levels.items() if name not in lines}
    left = replace(system, probes=tuple(probe for probe in system.probes if probe.signal not in lines))
    text = to_vcd(replace(capture, levels=kept))
    return left, read_vcd([text.encode()], "board.vcd")


def test_nothing_is_met_on_paper_beside_what_runs_closer_than_paper_allows():
    """Starts that were held off too long come too close to the next, though no line shows when they were due."""
    result = check(*row_unit_without(("D0", "D2", "D5"), faulty=True))
    assert {(each.code, each.about) for each in result.findings} >= {("runs-too-often", "isr.wheel")}
    assert {name for name, need in result.needs.items() if need.verdict is Verdict.MET} == set()
    # a start that leaves its own period and comes close before the next is late, not early
    pressure = result.needs["pressure.deadline"]
    assert (pressure.verdict, pressure.value > 200 * 10**6) == (Verdict.MISSED, True)
    sound = check(*row_unit_without(("D0", "D2", "D5"), faulty=False))
    assert not sound.findings
    assert {need.verdict for need in sound.needs.values()} == {Verdict.MET}


NEEDS = """[need.tick]
from = "source.tick"
to = "isr.both.end"
within = "1 ms"
[need.adc]
from = "unit.adc"
to = "isr.adc.end"
within = "1 ms"
"""


def verdicts(**how):
    result = check(read_model(MODEL + NEEDS, "m.toml"), read_event_stream([stream(**how).encode()], "r.events"))
    return {name: need.verdict for name, need in result.needs.items()}


def test_nothing_is_met_of_what_comes_too_often_or_no_more():
    assert verdicts() == {"tick": Verdict.MET, "adc": Verdict.MET}
    # the more urgent routine does not hang on how often the other comes
    often = verdicts(tick=8 * MS // 256)
    assert (often["tick"] is Verdict.MET, often["adc"] is Verdict.MET) == (False, True)
    assert verdicts(tick=3 * LENGTH * MS)["tick"] is not Verdict.MET


ROASTER = """
tachys = 1
core = { clock = "32 MHz", levels = 2, nesting = true, entry = "15 cycles", exit = "12 cycles" }
source = { mains.every = "10 ms", byte.serial.baud = "19200 Bd" }
isr.fire = { on = "source.mains", level = 0, cost = ["3 us", "5 us"] }
isr.rx = { on = "source.byte", level = 1, cost = ["2 us", "4 us"] }
loop.overhead = "2 us"
step.store = { every = "200 ms", cost = ["150 us", "180 us"], guard = { level = 0, for = "20 us", at = "30 us" } }
need.fired = { from = "source.mains", to = "isr.fire.start", within = "60 us" }
probe.D0 = { shows = "source.mains", edge = "rise" }
probe.D1.shows = "isr.fire"
probe.D2.shows = "isr.rx"
probe.D3.shows = "step.store"
"""


def test_two_starts_too_close_may_be_one_held_off_and_so_may_the_more_urgent_be(tmp_path):
    """The board holds all off for 110 us; no event of the more urgent falls into that here, one of the other does."""
    (tmp_path / "m.toml").write_text(ROASTER)
    board = ("simulate", "m.toml", "--set", "step.store.guard.for=110 us", "--for", "20 s", "--seed", "4")
    assert tachys(tmp_path, *board, "--probes", "-o", "c.vcd").returncode == 0
    told = json.loads(tachys(tmp_path, "check", "m.toml", "c.vcd", "--format", "json").stdout)
    assert [(each["code"], each["about"]) for each in told["findings"]] == [("runs-too-often", "isr.rx")]
    assert told["needs"]["fired"]["verdict"] == "at risk"


@pytest.mark.parametrize(("first", "told"), [(5200, []), (1500, ["comes-too-seldom"])])
def test_a_capture_may_begin_before_the_board_is_switched_on(first, told):
    """Time counts from the first edge of any line on: here the tick comes each millisecond from 5 ms on."""
    text = 'tachys = 1\n[core]\nclock = "16 MHz"\nentry = "1 us"\nexit = "1 us"\n[source.tick]\nevery = "1 ms"\n[isr.tick]\n'
    text += (
        'on = "source.tick"\ncost = "10 us"\n[source.key]\ngap = "1 ms"\n[isr.key]\non = "source.key"\ncost = "5 us"\n'
    )
    text += "".join(f'[probe.{name}]\nshows = "isr.{name}"\n' for name in ("tick", "key"))
    ticks = [(us * 10**6, (us + 10) * 10**6) for us in range(5000, 40_000, 1000)]
    capture = capture_of({"tick": ticks, "key": [(first * 10**6, (first + 5) * 10**6)]}, 40 * 10**9)
    found = check(read_model(text, "m.toml"), capture).findings
    assert [each.code for each in found if each.about == "isr.tick"] == told
