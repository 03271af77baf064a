"""How probes read lines, by hand-drawn captures: levels, edges, pulses, codes, inverted, shared, by name, cut off."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from calling import tachys
from tachys.capture.table import Capture, make_signal
from tachys.checking.board.grid import clock_error, hidden_grid
from tachys.checking.board.nesting import nest
from tachys.checking.board.pairing import pair_unit
from tachys.checking.checking import check
from tachys.checking.compare.tail import tail_of
from tachys.checking.correct.clocking import by_own_clock
from tachys.checking.out.explaining import explain_finding
from tachys.checking.out.export import check_data
from tachys.checking.probes.lines import Bodies
from tachys.cli.check import _suite
from tachys.drawing.scene import Moment, scene_of_capture
from tachys.drawing.text import text_lines
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.model.nodes import Unit
from tachys.model.quantities import Range

US = 10**6
MODEL = """
tachys = 1
title = "two routines of the row unit"
[core]
clock = "1 MHz"
nesting = true
levels = 2
entry = "1 us"
exit = "1 us"
chain = "1 us"
[source.wheel]
gap = "20 us"
[source.tick]
every = "100 us"
[isr.wheel]
on = "source.wheel"
level = 0
cost = ["4 us", "6 us"]
[isr.tick]
on = "source.tick"
level = 1
cost = ["8 us", "12 us"]
sets = "due"
[loop]
overhead = "1 us"
[step.sow]
polls = "due"
cost = ["5 us", "9 us"]
[need.sown]
from = "source.tick"
to = "step.sow.start"
within = "60 us"
"""
# tick at 10, runs 11 to 27: the wheel comes at 14 and runs 15 to 20 on top of it; sow 30 to 37
EVENTS = {"wheel_in": [(14, 1), (16, 0)], "tick_in": [(10, 1), (12, 0)]}
BODIES = {"wheel_on": [(15, 1), (20, 0)], "tick_on": [(11, 1), (27, 0)], "sow_on": [(30, 1), (37, 0)]}
PROBES = """
[probe.wheel_in]
shows = "source.wheel"
edge = "rise"
[probe.tick_in]
shows = "source.tick"
edge = "rise"
[probe.wheel_on]
shows = "isr.wheel"
[probe.tick_on]
shows = "isr.tick"
[probe.sow_on]
shows = "step.sow"
"""


def drawn(lines, end=200, first=0, step=US // 10):
    """A capture of lines drawn by hand: changes at us after a first level."""
    signals = {}
    for name, changes in lines.items():
        width = 1 if all(value in (0, 1, None) for _, value in changes) else 8
        at = [0, *(round(us * US) for us, _ in changes)]
        signals[name] = make_signal(name, width, at, [first, *(value for _, value in changes)])
    return Capture("drawn.vcd", signals, 0, end * US, step)


def checked(probes, lines, **more):
    return check(read_model(MODEL + probes, "m.toml"), drawn(lines, **more))


def test_levels_events_and_what_runs_on_top():
    result = checked(PROBES, EVENTS | BODIES)
    tick, wheel = result.isrs["tick"], result.isrs["wheel"]
    assert (tick.latency.most, tick.response.most, tick.span.most) == (1 * US, 17 * US, 16 * US)
    assert (wheel.latency.most, wheel.span.most) == (1 * US, 5 * US)
    own = result.board.isrs["tick"].cost  # 16 - 5 - entry and exit, give or take two samples
    assert own.least[0] <= 9 * US <= own.most[0]
    assert own.most[0] - own.least[0] <= 4 * US // 10
    assert result.needs["sown"].value == 20 * US
    assert [(part.how, part.what, part.end - part.begin) for part in result.needs["sown"].worst] == [
        ("unseen", "", US), ("ran", "isr.tick", 4 * US), ("ran", "isr.wheel", 5 * US), ("ran", "isr.tick", 7 * US),
        ("unseen", "", 3 * US),
    ]  # fmt: skip
    assert [each.code for each in result.findings] == ["comes-no-more"]  # one tick of two that are due


def inverted(changes):
    return [(at, 1 - level) for at, level in changes]


def as_pulses(changes, rest):
    return [each for at, _ in changes for each in ((at, 1 - rest), (at + 0.5, rest))]


@pytest.mark.parametrize(("probe", "changes", "first"), [
    ('active = "low"', inverted(BODIES["wheel_on"]), 1),
    ('after = "2 us"\nbefore_end = "1 us"', [(17, 1), (19, 0)], 0),
    ('shortest = "1 us"', [(3, 1), (3.5, 0), (15, 1), (17, 0), (17.3, 1), (20, 0)], 0),
])  # fmt: skip
def test_a_level_inverted_moved_or_with_glitches_shows_the_same_body(probe, changes, first):
    probes = PROBES.replace('shows = "isr.wheel"', f'shows = "isr.wheel"\n{probe}')
    capture = drawn(EVENTS | BODIES | {"wheel_on": [(1, 0)]})
    wheel = make_signal("wheel_on", 1, [0, *(round(at * US) for at, _ in changes)], [first, *(v for _, v in changes)])
    capture.signals["wheel_on"] = wheel
    result = check(read_model(MODEL + probes, "m.toml"), capture)
    assert (result.isrs["wheel"].latency.most, result.isrs["wheel"].span.most) == (1 * US, 5 * US)


@pytest.mark.parametrize(("edge", "changes"), [
    ("toggle", [(10, 1), (110, 0)]), ("both", [(10, 1), (110, 0)]), ("fall", [(5, 1), (10, 0), (50, 1), (110, 0)]),
    ("pulse", [(10, 1), (10.5, 0), (110, 1), (110.5, 0)]),
])  # fmt: skip
def test_every_kind_of_edge_shows_the_events(edge, changes):
    probes = PROBES.replace('shows = "source.tick"\nedge = "rise"', f'shows = "source.tick"\nedge = "{edge}"')
    result = checked(probes, EVENTS | BODIES | {"tick_in": changes})
    assert result.board.events("source.tick").tolist() == [10 * US, 110 * US]


def test_a_bus_says_who_runs_and_who_is_put_aside():
    probes = '[probe.running]\ncodes = { 1 = "isr.wheel", 2 = "isr.tick", 3 = "step.sow" }\n'
    bus = [(11, 2), (15, 1), (20, 2), (27, 0), (30, 3), (37, 0), (40, 2), (50, 1), (55, 0)]
    result = checked(probes, {"running": bus})
    bodies = result.board.shown.bodies
    assert list(zip(bodies["isr.tick"].start // US, bodies["isr.tick"].end // US, strict=True)) == [(11, 27), (40, 55)]
    assert bodies["isr.wheel"].start.tolist() == [15 * US, 50 * US]
    assert bodies["step.sow"].end.tolist() == [37 * US]


def test_two_routines_share_a_line():
    probes = PROBES.replace('[probe.wheel_on]\nshows = "isr.wheel"\n[probe.tick_on]\nshows = "isr.tick"\n',
                            '[probe.both]\nshows = ["isr.wheel", "isr.tick"]\n')  # fmt: skip
    lines = {"wheel_in": [(14, 1), (16, 0), (60, 1), (62, 0)], "tick_in": [(10, 1), (12, 0), (110, 1), (112, 0)],
             "both": [(11, 1), (20, 0), (21, 1), (26, 0), (61, 1), (66, 0), (111, 1), (121, 0)], "sow_on": [(30, 1), (37, 0)]}  # fmt: skip
    result = checked(probes, lines)
    assert result.board.events("isr.wheel.start").tolist() == [21 * US, 61 * US]
    assert result.board.events("isr.tick.start").tolist() == [11 * US, 111 * US]


@pytest.mark.parametrize("entry", [0, 1, 3])
def test_a_shared_line_is_dealt_out_by_an_entry_as_short_as_it_is(entry):
    """An entry of no time at all, a pin 5 us within the body, and runs that are drawn 1 us too soon, as samples may."""
    probes = PROBES.replace('[probe.wheel_on]\nshows = "isr.wheel"\n[probe.tick_on]\nshows = "isr.tick"\n',
                            '[probe.both]\nshows = ["isr.wheel", "isr.tick"]\nafter = "5 us"\n')  # fmt: skip
    model = MODEL.replace('entry = "1 us"', f'entry = "{entry} us"').replace('["4 us", "6 us"]', '"12 us"')
    wheel, tick = [100 * k + 30 for k in range(12)], [100 * k + 60 for k in range(12)]
    begun = {"wheel_in": wheel, "tick_in": tick, "both": [at + 4 for at in sorted(wheel + tick)]}
    lines = {name: [edge for at in each for edge in ((at, 1), (at + 6, 0))] for name, each in begun.items()} | {
        "sow_on": []
    }
    board = check(read_model(model + probes, "m.toml"), drawn(lines, end=1500, step=US)).measured
    assert board.events("isr.wheel.start").tolist() == [(at - 1) * US for at in wheel]
    assert board.events("isr.tick.start").tolist() == [(at - 1) * US for at in tick]


def test_a_pin_within_a_body_is_as_short_as_it_shows():
    """A body of 6 us, of which the pin shows 2: with samples as far apart some of its runs may not be seen at all."""
    probes = PROBES.replace('shows = "isr.wheel"', 'shows = "isr.wheel"\nafter = "2 us"\nbefore_end = "2 us"')
    model = MODEL.replace('["4 us", "6 us"]', '"6 us"')
    lines = EVENTS | BODIES | {"wheel_on": [(18, 1), (20, 0), (60, 1), (62, 0)]}
    told = {step: check(read_model(model + probes, "m.toml"), drawn(lines, step=step)).remarks for step in (US, 2 * US)}
    assert not any("isr.wheel is left out" in remark for remark in told[US])
    assert any("wheel_on: it may be high for 2.000 us only" in remark for remark in told[2 * US])


def test_bodies_that_samples_let_overlap_cover_what_they_ran_on_together():
    """Two of one level on top of a third, one behind the other, of which the second is seen to begin before the first ends."""
    core = read_model(MODEL, "m.toml").core
    low, one, two = (Bodies(*(np.array([us * US], np.int64) for us in each)) for each in ((0, 50), (10, 20), (19, 30)))
    own, *others = nest(core, [low, one, two], [1, 0, 0], US).owns
    # 50 less the 20 of both together, and less an entry and an exit of each, or a chain and one of each
    assert (own.least.tolist(), own.most.tolist()) == ([(50 - 20 - 4) * US], [(50 - 20 - 3) * US])
    assert [each.most.tolist() for each in others] == [[10 * US], [11 * US]]
    # what ran on top of the last of it, and is seen to end behind it
    top = Bodies(np.array([45 * US], np.int64), np.array([51 * US], np.int64))
    own, _ = nest(core, [low, top], [1, 0], US).owns
    assert (own.least.tolist(), own.most.tolist()) == ([(50 - 5 - 2) * US], [(50 - 5 - 2) * US])


def test_names_bind_without_a_probe_and_strangers_are_said():
    lines = {
        "isr.wheel": BODIES["wheel_on"],
        "sow": BODIES["sow_on"],
        "tick": EVENTS["tick_in"],
        "pump": [(5, 1), (9, 0)],
    }
    result = checked("", lines)
    assert result.isrs["wheel"].span.most == 5 * US
    assert result.steps["sow"].duration.most == 7 * US
    assert result.foreign == ("tick", "pump")
    assert any("tick could be source.tick or isr.tick" in remark for remark in result.remarks)
    assert set(result.unseen) == {"source.wheel", "source.tick", "isr.tick"}


def test_what_the_capture_cuts_is_not_measured():
    result = checked(PROBES, {name: [] for name in EVENTS | BODIES} | {"tick_on": [(5, 0), (190, 1)]}, first=1)
    assert result.isrs["tick"].span is None
    assert result.board.shown.bodies["isr.tick"].cut_begin
    assert result.board.shown.bodies["isr.tick"].cut_end


def test_a_line_that_is_high_all_the_time_tells_nothing_of_its_runs():
    late = PROBES.replace("[probe.tick_on]\n", '[probe.tick_on]\nafter = "1 us"\nbefore_end = "1 us"\n')
    assert late != PROBES
    levels = EVENTS | BODIES | {"tick_on": []}
    result = checked(late, levels, first=1)
    assert result.board.shown.bodies["isr.tick"].cut_begin
    assert result.isrs["tick"].runs == 0
    assert result.isrs["tick"].span is None


def test_load_from_busy_lines_and_from_an_idle_line():
    busy = checked(PROBES, EVENTS | BODIES)
    assert busy.load.least == pytest.approx((16 + 2 + 7) / 200, abs=0.005)
    idle = checked(PROBES + '[probe.quiet]\nshows = "idle"\n', EVENTS | BODIES | {"quiet": [(50, 1), (150, 0)]})
    assert idle.load.least == pytest.approx(0.5, abs=0.01)
    assert idle.load.by == "the idle line"
    always = checked(
        PROBES + '[probe.quiet]\nshows = "idle"\n', {name: [] for name in [*EVENTS, *BODIES, "quiet"]}, first=1
    )
    assert always.load.most == 0


def test_a_hidden_timer_is_found_below_the_starts():
    dice = np.random.default_rng(4)
    late = dice.integers(0, 30 * US, 400)
    late[[7, 250, 390]] = 0
    starts = 12_345_678 + np.arange(400) * 100_000_700 + late
    kept = np.delete(starts, [20, 21, 300])
    grid = hidden_grid(kept, 100_000_000.0)
    assert grid.period == pytest.approx(100_000_700, abs=2)
    true = np.delete(late, [20, 21, 300])
    assert (
        grid.delay <= true + 1000
    ).all()  # never too much; all of it between the first and the last that were not late
    assert np.abs(grid.delay - true)[7:387].max() < 1000


def test_the_clocks_are_compared_and_taken_out():
    error = clock_error([("a", 40.1, 0.5), ("b", 39.9, 1.0), ("c", 900.0, 2.0)])
    assert error.ppm == pytest.approx(40.06, abs=0.1)
    assert error.lines == ("b", "a")
    ticks = [(us * 1.00004, k % 2) for k, us in enumerate(range(100, 100_000, 100), 1)]
    probes = PROBES.replace('shows = "source.tick"\nedge = "rise"', 'shows = "source.tick"\nedge = "toggle"')
    lines = {name: [] for name in EVENTS | BODIES} | {"tick_in": [(at, k) for at, k in ticks]}
    capture = drawn(lines, end=100_100, step=1)
    result = check(read_model(MODEL + probes, "m.toml"), capture)
    assert result.clock.ppm == pytest.approx(40, abs=0.1)
    assert by_own_clock(result).periods["source.tick"].mean == pytest.approx(100 * US, rel=1e-7)


def test_a_unit_drops_restarts_and_queues():
    starts, ends = np.array([10, 15, 30, 32, 34]) * US, np.array([20, 40, 50]) * US

    def unit(busy, depth=0):
        return Unit("adc", ("source.x",), Range(10 * US, 10 * US), busy, depth)

    dropped = pair_unit(unit("drop"), starts, ends[:2], 0)
    assert dropped.lost.tolist() == [15 * US, 32 * US, 34 * US]
    assert dropped.after.tolist() == [10 * US, 10 * US]
    queued = pair_unit(unit("queue", 1), starts, np.array([20, 30, 40, 50]) * US, 0)
    assert (queued.at // US).tolist() == [10, 15, 30, 32]
    assert (queued.lost // US).tolist() == [34]
    assert (queued.takes // US).tolist() == [10, 10, 10, 10]
    again = pair_unit(unit("restart"), starts[:2], np.array([25]) * US, 0)
    assert (again.lost // US).tolist() == [10]
    assert (again.at // US).tolist() == [15]


def test_a_tail_is_estimated_only_where_it_fits():
    dice = np.random.default_rng(3)
    good = tail_of((dice.exponential(US, 60_000) + 5 * US).astype(np.int64))
    assert good.value == pytest.approx((5 + np.log(1e6)) * US, rel=0.35)
    rare = np.where(dice.random(6000) < 0.002, 40, 5) * US + dice.integers(0, US, 6000)
    assert tail_of(rare) is None
    assert tail_of(np.arange(100)) is None


@given(st.data())
def test_a_capture_in_which_anything_is_missing_is_checked_all_the_same(data):
    """Lines that never move, begin in mid-course, end early, hold x, or repeat: no crash, and the parts add up."""
    lines = {}
    for name in EVENTS | BODIES:
        times = data.draw(st.lists(st.integers(1, 1990), max_size=12, unique=True))
        levels = data.draw(st.sampled_from([(0, 1), (1, 0), (1, None, 0)]))
        lines[name] = [(at / 10, levels[k % len(levels)]) for k, at in enumerate(sorted(times))]
    result = checked(PROBES, lines, first=data.draw(st.sampled_from([0, 1])))
    for need in result.needs.values():
        if need.worst:
            assert sum(part.end - part.begin for part in need.worst) == need.seen.most
    for finding in range(1, len(result.findings) + 1):
        explained = explain_finding(result, finding)
        text_lines(scene_of_capture(result, Moment(*explained.window)), 100)
    json.dumps(check_data(result), allow_nan=False)
    _suite(result, strict=True)


BUS = '[probe.running]\nlines = ["D0", "D1"]\ncodes = { 1 = "isr.wheel", 2 = "isr.tick", 3 = "step.sow" }\n'
RUNS = [(11, 2), (15, 1), (20, 2), (27, 0), (30, 3), (37, 0), (40, 2), (46, 1), (51, 2), (55, 0)]


def bits(runs, number, late=0):
    """One line of a bus, ``late`` us behind it."""
    levels = [(at + late, value >> number & 1) for at, value in runs]
    return [each for place, each in enumerate(levels) if each[1] != (levels[place - 1][1] if place else 0)]


@pytest.mark.parametrize("late", [0, 1, -1])
def test_a_bus_of_single_lines_that_do_not_change_at_once(late):
    """One of them is a sample late: 2 and then 1 shows 3 or 0 between them for a sample, which is nobody's."""
    lines = {"D0": bits(RUNS, 0), "D1": bits(RUNS, 1, late)}
    board = check(read_model(MODEL + BUS, "m.toml"), drawn(lines, end=200, step=US)).measured
    for thing, spans in {
        "isr.tick": [(11, 27), (40, 55)], "isr.wheel": [(15, 20), (46, 51)], "step.sow": [(30, 37)]
    }.items():  # fmt: skip
        seen = board.shown.bodies[thing]
        assert len(seen.start) == len(spans)
        for span, got in zip(spans, zip(seen.start, seen.end, strict=True), strict=True):
            assert all(abs(int(at) // US - want) <= 1 for at, want in zip(got, span, strict=True))
    assert "D0" not in board.capture.signals


def test_what_a_bus_of_lines_must_be():
    for text, wrong in {
        '[probe.D0]\nlines = ["D0"]\ncodes = { 1 = "isr.tick" }\n': "a bus has 2 to 16 lines",
        '[probe.b]\nlines = ["D0", "D0"]\ncodes = { 1 = "isr.tick" }\n': "a bus has 2 to 16 lines",
        '[probe.b]\nlines = ["D0", "D1"]\nshows = "isr.tick"\n': "lines make up a bus, whose value says who runs",
        '[probe.b]\nlines = ["D0", "D1"]\nalso = ["x"]\ncodes = { 1 = "isr.tick" }\n': "goes with one line",
        '[probe.b]\nlines = ["D0", "D1"]\ncodes = { 4 = "isr.tick" }\n': "2 lines show no 4",
        '[probe.b]\ncodes = { 1 = "isr.tick" }\nedge = "rise"\n': "a bus has no edges",
        '[probe.b]\ncodes = { 1 = "isr.tick" }\nactive = "low"\n': "a bus has values, not a level",
    }.items():
        with pytest.raises(InputError, match=wrong):
            read_model(MODEL + text, "m.toml")
    lines = {"D0": bits(RUNS, 0), "D2": bits(RUNS, 1)}
    with pytest.raises(InputError, match='has no signal "D1"'):
        check(read_model(MODEL + BUS, "m.toml"), drawn(lines, end=200, step=US))


def test_values_of_a_bus_that_are_too_short_are_none():
    bus = BUS.replace('lines = ["D0", "D1"]\n', 'shortest = "2 us"\n')
    runs = [(11, 2), (12, 3), (13, 0), (40, 2), (55, 0)]
    board = check(read_model(MODEL + bus, "m.toml"), drawn({"running": runs}, end=200, step=US // 10)).measured
    assert "step.sow" not in {thing for thing, seen in board.shown.bodies.items() if len(seen.start)}


def test_a_play_writes_the_lines_of_a_bus(tmp_path):
    (tmp_path / "m.toml").write_text(MODEL + BUS)
    assert tachys(tmp_path, "simulate", "m.toml", "--for", "20 ms", "--probes", "-o", "b.vcd").returncode == 0
    done = tachys(tmp_path, "check", "m.toml", "b.vcd")
    assert (done.returncode, "nothing refuted" in done.stdout) == (0, True)
    assert "step.sow" not in done.stdout.partition("cannot show")[2].partition(", which")[0]
