"""Needs followed through records drawn up by hand, lanes, and what figures are made of."""

import random
from fractions import Fraction

import numpy as np
import pytest

from attack import attack, toml
from soak import length_of, ways
from tachys.capture.table import Capture, make_signal
from tachys.drawing.figure import draw_scene_on, draw_scenes, new_figure
from tachys.drawing.moment import play_moment
from tachys.drawing.scene import LOOKS, scene_of_played, side_by_side
from tachys.drawing.spread import Spread, draw_spreads
from tachys.drawing.text import text_lines
from tachys.drawing.waveform import draw_waveform, waveform_lines
from tachys.model.loading import read_model
from tachys.needs.kinds import WithinNeed
from tachys.simulation import engine
from tachys.simulation import layout as at
from tachys.simulation.busy import BusySpans
from tachys.simulation.engine import Records, join, play_whole
from tachys.simulation.follow import answers, event_times
from tachys.simulation.index import index_of
from tachys.simulation.kept import EVERYTHING
from tachys.simulation.lanes import lanes
from tachys.simulation.needs import PlayedSlice, watches
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds

NS = 1000
TEXT = """tachys = 1
[core]
clock = "1 GHz"
entry = "0 s"
exit = "0 s"
[source.s]
gap = "10 ns"
[unit.u]
on = "source.s"
takes = "5 ns"
[isr.r]
on = "unit.u"
cost = "3 ns"
sets = "f"
[loop]
overhead = "1 ns"
[step.p]
polls = "f"
cost = "2 ns"
"""
SYSTEM = read_model(TEXT, "m.toml")
INDEX = index_of(SYSTEM)


def records(*rows):
    """(time, kind, index, cause) in ns."""
    time, kind, index, cause = zip(*rows, strict=True)
    return Records(np.array(time) * NS, np.array(kind, np.uint8), np.array(index, np.int32), np.array(cause) * NS)


def followed(begins, ends, *rows, age=False):
    found = answers(records(*rows), SYSTEM, INDEX, WithinNeed("n", begins, ends, 1, age))
    return tuple((part // NS).tolist() for part in (found.at, found.after, found.lost, found.open))


WHOLE = [
    (0, at.SOURCE, 0, 0), (0, at.UNIT_START, 0, 0), (5, at.UNIT_END, 0, 0), (5, at.START, 0, 5), (8, at.LAST, 0, 5),
    (8, at.FLAG_SET, 0, 8), (9, at.FLAG_TAKEN, 0, 8), (9, at.STEP_START, 0, 9), (11, at.STEP_END, 0, 9),
]  # fmt: skip


def test_an_event_is_followed_to_the_end():
    assert followed("source.s", "step.p.end", *WHOLE) == ([0], [11], [], [])
    assert followed("source.s", "isr.r.start", *WHOLE) == ([0], [5], [], [])
    assert followed("unit.u.end", "step.p.start", *WHOLE) == ([5], [4], [], [])
    assert followed("isr.r.start", "isr.r.end", *WHOLE) == ([5], [3], [], [])


def test_what_is_not_answered_is_open_and_what_is_dropped_is_lost():
    assert followed("source.s", "step.p.end", *WHOLE[:-1]) == ([], [], [], [0])
    dropped = [
        *WHOLE,
        (12, at.SOURCE, 0, 12),
        (12, at.UNIT_START, 0, 12),
        (14, at.SOURCE, 0, 14),
        (14, at.UNIT_LOST, 0, 14),
    ]
    assert followed("source.s", "step.p.end", *dropped) == ([0], [11], [14], [12])


def test_an_overwritten_flag_loses_the_first_need_and_not_the_age():
    twice = [
        *WHOLE[:6], (8, at.SOURCE, 0, 8), (8, at.UNIT_START, 0, 8), (13, at.UNIT_END, 0, 8), (13, at.START, 0, 13),
        (16, at.LAST, 0, 13), (16, at.FLAG_OVER, 0, 8), (20, at.FLAG_TAKEN, 0, 8), (20, at.STEP_START, 0, 20),
        (22, at.STEP_END, 0, 20),
    ]  # fmt: skip
    assert followed("source.s", "step.p.start", *twice) == ([0], [20], [8], [])
    # by age the last cause counts: the event at 8, and the one at 0 is superseded
    assert followed("source.s", "step.p.start", *twice, age=True) == ([8], [12], [], [])


def test_without_a_way_the_next_one_answers():
    rows = [(0, at.STEP_START, 0, 0), (2, at.STEP_END, 0, 0), (3, at.SOURCE, 0, 3), (9, at.SOURCE, 0, 9)]
    assert followed("step.p.end", "source.s", *rows) == ([2], [1], [], [])
    assert event_times(records(*rows), INDEX, "source.s").tolist() == [3 * NS, 9 * NS]


def test_slices_tell_the_same_as_the_whole():
    text = TEXT + '[need.n]\nfrom = "source.s"\nto = "step.p.end"\nwithin = "12 ns"\n'
    system = read_model(text, "m.toml")
    _, whole, index = play_whole(system, RunOptions("drawn", "drawn", "mean"), 5000 * NS)
    (once,) = watches(system, 0)
    once.look(PlayedSlice(system, index, whole, 5000 * NS, whole=True))
    for size in (7, 100, 999):
        (watch,) = watches(system, 0)
        played = PlayedSlice(system, index, whole, 0, whole=False)
        # as the engine does, a slice ends between two instants
        borders = np.flatnonzero(np.diff(whole.time)) + 1
        for columns in zip(*(np.split(getattr(whole, n), borders[::size]) for n in ("time", "kind", "index", "cause")),
                           strict=True):  # fmt: skip
            part = Records(*columns)
            now = int(part.time[-1])
            played.next(part, now, whole=False)
            watch.look(played)
        empty = Records(*(getattr(whole, name)[:0] for name in ("time", "kind", "index", "cause")))
        played.next(empty, 5000 * NS, whole=True)
        watch.look(played)
        assert (watch.seen.count, watch.seen.total, watch.misses) == (once.seen.count, once.seen.total, once.misses)
        assert [miss.at for miss in watch.first] == [miss.at for miss in once.first]


@pytest.mark.parametrize("seed", [*range(4_000_000, 4_000_008), *range(253_303_020_000, 253_303_020_004)])
def test_slices_of_every_size_and_all_records_tell_the_same(monkeypatch, seed):
    system = read_model(toml(attack(seed)), "m.toml")
    dice, paper = random.Random(seed), bounds(system)
    how, end = ways(dice, system), min(length_of(system, dice), 4000 * NS)
    told = []

    def look():
        seen = simulate(system, end, how, bounds=paper).needs.values()
        told.append([(each.verdict, each.value, each.misses, each.seen, each.first) for each in seen])

    for room, turns in ((1 << 20, 1 << 20), (1 << 20, 1), (1 << 20, 7), (300, 1 << 20), (1, 1 << 20)):
        monkeypatch.setattr(engine, "ROOM", room)
        monkeypatch.setattr(engine, "TURNS", turns)
        look()
    monkeypatch.setattr(engine, "kept_for", lambda *_: EVERYTHING)
    look()
    assert all(each == told[0] for each in told)


def test_records_are_joined_in_order():
    parts = [records(*WHOLE[:4]), records(*WHOLE[4:])]
    assert join(parts).time.tolist() == records(*WHOLE).time.tolist()


def test_the_busiest_window_lies_where_the_work_is():
    text = TEXT.replace('gap = "10 ns"', 'every = "100 ns"\noffset = "0 ns"')
    _, whole, index = play_whole(read_model(text, "m.toml"), RunOptions("most"), 1000 * NS)

    def busiest(length):
        spans = BusySpans(length)
        spans.take(whole, index, 1000 * NS)
        return spans.busiest

    # from 4 to 10: the overhead of the pass in which the step runs, 3 of the routine, 2 of the step
    assert [busiest(length * NS) for length in (3, 6, 12, 100, 2000)] == [1, 1, 0.5, Fraction(6, 100), 0]


@pytest.mark.parametrize("sleep", ["pause", "sleep"])
def test_a_pause_and_a_halt_are_no_load(sleep):
    more = {"pause": 'pause = "40 ns"', "sleep": "sleep = true"}[sleep]
    text = TEXT.replace('gap = "10 ns"', 'every = "100 ns"').replace('polls = "f"', more)
    _, whole, index = play_whole(read_model(text, "m.toml"), RunOptions("most", "together"), 1000 * NS)
    spans = BusySpans(500 * NS)
    for border in range(0, 1000 * NS, 70 * NS):
        inside = (whole.time >= border) & (whole.time < border + 70 * NS)
        part = Records(*(getattr(whole, name)[inside] for name in ("time", "kind", "index", "cause")))
        spans.take(part, index, min(border + 70 * NS, 1000 * NS))
    # a round is 1 + 2 and 40 of pause, or it sleeps until the routine, whose 3 come once in 100, has been
    assert spans.busiest == {"pause": Fraction(12 * 3 + 5 * 3, 500), "sleep": Fraction(3 + 5 * 6, 500)}[sleep]


def test_lanes_hold_every_ps_of_every_body():
    _, whole, index = play_whole(SYSTEM, RunOptions("drawn"), 3000 * NS)
    found = lanes(whole, index, 100 * NS, 2500 * NS)
    for who in ("isr.r", "step.p", "unit.u"):
        stretches = found.of(who)
        assert all(100 * NS <= s.begin < s.end <= 2500 * NS for s in stretches)
        bodies = found.bodies[who]
        assert all(first <= last for first, last in bodies)
    runs = sum(s.end - s.begin for s in found.of("isr.r") if s.state == "runs")
    inside = sum(max(0, min(last, 2500 * NS) - max(first, 100 * NS)) for first, last in found.bodies["isr.r"])
    assert runs == inside


@pytest.mark.parametrize("form", ["png", "svg", "pdf"])
def test_figures_are_the_same_every_time(form):
    paper = bounds(SYSTEM)
    played = play_moment(paper, RunOptions(), 2000 * NS)
    assert draw_scenes([scene_of_played(played)], form) == draw_scenes([scene_of_played(played)], form)
    with pytest.raises(ValueError, match="cannot draw a gif"):
        draw_scenes([scene_of_played(played)], "gif")


def test_every_state_looks_different_without_its_colour():
    looks = [(hatch, height) for _, _, hatch, height, _ in LOOKS.values()]
    assert len(set(looks)) == len(looks) - 1  # entry and exit are one


def test_distributions_need_something_counted():
    result = simulate(SYSTEM, 2000 * NS)
    counted = result.counted["isr.r.latency"]
    assert draw_spreads([Spread("r", counted, 50 * NS, 9 * NS)], "png").startswith(b"\x89PNG")
    counted.count = 0
    with pytest.raises(ValueError, match="nothing was counted"):
        draw_spreads([Spread("r", counted)], "png")


def test_waveforms_as_figure_and_text():
    line = make_signal("D0", 1, [0, 10_000, 30_000], [0, 1, 0])
    bus = make_signal("PORT", 4, [0, 20_000, 35_000], [None, 10, 3])
    capture = Capture("c.vcd", {"D0": line, "PORT": bus}, 0, 40_000, 1000)
    assert draw_waveform(capture, (10_000, 30_000), "png").startswith(b"\x89PNG")
    head, first, second, marks, legend = waveform_lines(capture, (10_000, 30_000), 46)
    assert head == "c.vcd: A 0.000010 ms, B 0.000030 ms, B - A = 20 ns ± 1 ns; a column is 1 ns"
    assert first == "D0    " + "_" * 10 + "#" * 20 + "_" * 10
    assert second == "PORT  " + "?" * 20 + "A" + "-" * 14 + "3----"
    assert marks == " " * 6 + " " * 10 + "A" + " " * 19 + "B"
    assert "? unknown" in legend


GUARDED = """tachys = 1
[core]
clock = "1 GHz"
levels = 2
entry = "0 s"
exit = "0 s"
[source.s]
every = "1 us"
offset = "500 ns"
[isr.r]
on = "source.s"
level = 0
cost = "20 ns"
[isr.l]
on = "source.s"
level = 1
cost = "10 ns"
[loop]
overhead = "10 ns"
[step.w]
cost = "900 ns"
guard = { level = 1, at = "450 ns", for = "80 ns" }
"""


def drawn(axes, which):
    """The artists of a figure that were given a name: [(left, width, row)] of each bar."""
    found = []
    for artist in axes.collections:
        if artist.get_gid() == which:
            for path in artist.get_paths():
                box = path.get_extents()
                found.append((round(box.x0), round(box.width), round((box.y0 + box.y1) / 2, 2)))
    return found


def test_a_guard_is_drawn_on_the_body_that_does_it_and_over_what_waits():
    """The step begins at 10 ns; from 450 ns of its own time on it holds l off for 80 ns; r, at 500 ns, is served meanwhile."""
    paper = bounds(read_model(GUARDED, "m.toml"))
    scene = scene_of_played(play_moment(paper, RunOptions("most"), 10**6, (0, 900 * NS)))
    (hold,) = scene.holds
    assert (hold.who, hold.begin // NS, hold.end // NS, hold.lanes) == ("step.w", 460, 560, ("isr.l",))
    _, (axes,) = new_figure()
    draw_scene_on(axes, scene)
    assert drawn(axes, "hold") == [(460, 100, 1.62)]
    assert drawn(axes, "held") == [(460, 100, 1)]
    assert [text.get_text() for text in axes.get_legend().get_texts()] == [
        "event", "waits", "runs", "put aside", "holds interrupts off"]  # fmt: skip
    row = next(line for line in text_lines(scene, 102) if line.startswith("step.w"))
    assert "!" in row
    assert row.index("!") > row.index("#")


def test_two_scenes_have_the_same_lanes_and_scale():
    paper = bounds(SYSTEM)
    one = scene_of_played(play_moment(paper, RunOptions(), 2000 * NS, (0, 500 * NS)))
    other = scene_of_played(play_moment(paper, RunOptions(), 2000 * NS, (0, 1500 * NS))).only(["r", "isr.r"])
    above, below = side_by_side(one, other)
    assert [lane.thing for lane in above.lanes] == [lane.thing for lane in below.lanes]
    assert above.end - above.begin == below.end - below.begin == 1500 * NS
