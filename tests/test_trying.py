"""Figures moved over a range, and how far each can move: against a plain search over the bounds."""

import json
from fractions import Fraction

import pytest

from calling import tachys
from tachys.demo.project import model_text
from tachys.model.loading import ModelText, read_model
from tachys.spreading import Workers
from tachys.trying.amounts import Amount, read_range
from tachys.trying.headroom import headroom_of
from tachys.trying.points import Model, at_point
from tachys.trying.sweeping import rows_of, sweep, sweep_data
from tachys.worstcase.analysis import bounds


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    folder = tmp_path_factory.mktemp("trying")
    (folder / "row_unit.toml").write_text(model_text())
    return folder


@pytest.fixture(scope="module")
def text(place):
    return (place / "row_unit.toml").read_text()


@pytest.fixture(scope="module")
def found(text):
    return headroom_of(Model(text, "row_unit.toml"))


def holds(text, *settings):
    return all(need.proved for need in bounds(read_model(text, "m.toml", None, settings)).needs.values())


# --- headroom -----------------------------------------------------------------------------------------------


def test_just_inside_holds_and_just_outside_falls(text, found):
    model = ModelText(text, "m.toml")
    assert len(found.rooms) > 25
    for room in found.rooms:
        assert room.last is not None
        inside, outside = (bounds(model.system(None, settings)).needs for settings in (room.settings, room.outside))
        assert all(need.proved for need in inside.values()), room
        assert [name for name, need in outside.items() if not need.proved] == list(room.falls)


@pytest.mark.parametrize("key", ["isr.hopper.cost.2", "step.log.guard.for", "source.seed.gap", "core.entry",
                                 "step.panel.every"])  # fmt: skip
def test_the_room_of_a_figure_is_what_a_plain_bisection_finds(text, found, key):
    room = next(room for room in found.rooms if room.key == key)
    good, bad = room.now.number, room.now.number * (Fraction(12) if room.up else Fraction(1, 12))
    assert not holds(text, f"{key}={Amount(bad, room.now.unit)}")
    while abs(good - bad) > max(good, bad) / 10_000:
        middle = Amount((good + bad) / 2, room.now.unit)
        good, bad = (middle.number, bad) if holds(text, f"{key}={middle}") else (good, middle.number)
    step = 1 if room.now.whole else good / 1000  # four digits
    assert abs(room.last.number - good) <= step


def test_the_nearest_stands_first_and_says_what_ends_it(found):
    shares = [room.share for room in found.rooms]
    assert shares == sorted(shares)
    guard = next(room for room in found.rooms if room.key == "step.log.guard.for")
    assert (guard.falls, guard.why.split(",")[0]) == (("release",), "step.log 99 %")
    clock = next(room for room in found.rooms if room.key == "core.clock")
    assert clock.share == pytest.approx(1 - 1 / 1.16, abs=0.01)  # as much as all work, but for what is hardware's
    assert any(setting.startswith("isr.wheel.cost=") for setting in clock.settings)


LOSES = """tachys = 1
[core]
clock = "16 MHz"
levels = 2
nesting = false
entry = "1 us"
exit = "1 us"
[source.a]
gap = "100 us"
[source.b]
gap = "400 us"
[isr.a]
on = "source.a"
level = 1
cost = "20 us"
[isr.b]
on = "source.b"
level = 0
cost = "110 us"
[need.kept]
of = "isr.a"
lost = 0
[need.soon]
from = "source.b"
to = "isr.b.end"
within = "160 us"
"""


def test_what_would_mend_a_need_was_run():
    found = headroom_of(Model(LOSES, "m.toml"), workers=Workers(1))
    assert (found.fallen, found.held) == (("kept",), ("soon",))
    mends = {mend.key: mend for mend in found.mends}
    assert mends.keys() >= {"isr.b.cost", "isr.a.pending"}
    assert mends["isr.a.pending"].becomes == "2"
    shares = [mend.share for mend in found.mends]
    assert shares == sorted(shares)
    for mend in found.mends:
        assert holds(LOSES, *mend.settings), mend
    cost = mends["isr.b.cost"]
    assert not holds(LOSES, f"isr.b.cost={Amount.read(cost.becomes).neighbour(up=True)}")


def test_headroom_in_ci(place):
    assert tachys(place, "headroom", "row_unit.toml", "isr.tick", "--keep", "20 %").returncode == 0
    assert tachys(place, "headroom", "row_unit.toml", "core.clock", "--keep", "20 %").returncode == 1
    (place / "loses.toml").write_text(LOSES)
    shown = tachys(place, "headroom", "loses.toml", "--workers", "1")
    assert max(map(len, shown.stdout.splitlines())) <= 100
    assert "What alone would mend kept, the smallest change first" in shown.stdout
    assert tachys(place, "headroom", "loses.toml", "core", "--keep", "1 %", "--workers", "1").returncode == 1
    wrong = tachys(place, "headroom", "row_unit.toml", "isr.weel")
    assert (wrong.returncode, wrong.stderr) == (
        2, 'row_unit.toml: KEY: no figure "isr.weel" can be moved; did you mean "isr.wheel.cost"?\n')  # fmt: skip


# --- sweeps -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("given", "values"), [
    ("a.b=1 us..2 us/3", ("1 us", "1.5 us", "2 us")),
    ("a.b=1..100 us/x3", ("1 us", "10 us", "100 us")),
    ("a.b=900 ns..3 us/4", ("900 ns", "1600 ns", "2300 ns", "3000 ns")),
    ("a.b=1 us..2 us/4", ("1 us", "1.33333 us", "1.66667 us", "2 us")),
    ("a.b=0..3/4", ("0", "1", "2", "3")),
    ("a.b=10 cycles..12 cycles/9", ("10 cycles", "11 cycles", "12 cycles")),
    ("a.b=one, all", ("one", "all")),
])  # fmt: skip
def test_values_along_a_range(given, values):
    assert read_range(given).values == values


def test_each_point_is_that_of_bounds_and_the_break_lies_between(text):
    found = sweep(Model(text, "m.toml"), [read_range("step.log.guard.for=10 us..70 us/7")])
    for point, outcome in zip(found.points, found.outcomes, strict=True):
        paper = bounds(read_model(text, "m.toml", None, [f"step.log.guard.for={point[0]}"]))
        assert outcome.falls == tuple(name for name, need in paper.needs.items() if not need.proved)
        assert outcome.needs["release"].bound == paper.needs["release"].need.given(paper.needs["release"].bound)
        assert outcome.load == float(paper.load.most)
    (change,) = found.breaks
    assert (change.rising, change.needs) == (True, ("release",))
    assert Amount.read(change.holds).number <= Fraction("39.66") < Amount.read(change.falls).number
    assert change.why.startswith("step.log 99 %")


def test_one_process_and_two_and_one_that_was_stopped_give_the_same(place, text, monkeypatch):
    model, over = Model(text, "row_unit.toml"), [read_range("isr.tick.cost.2=5 us..150 us/40")]
    one, two = (sweep(model, over, workers=Workers(count)) for count in (1, 2))
    assert sweep_data(one) == sweep_data(two)
    call = ("sweep", "row_unit.toml", "--over", "isr.tick.cost.2=5 us..150 us/40", "--workers", "1", "-o", "tick.csv")
    stopping = iter(range(17))

    def stopped_at_point(model, settings):
        if next(stopping, None) is None:
            raise KeyboardInterrupt
        return at_point(model, settings)

    monkeypatch.setattr("tachys.trying.points.at_point", stopped_at_point)
    stopped = tachys(place, *call)
    assert stopped.returncode == 130
    assert "stopped, 17 of them are done" in stopped.stdout
    assert not (place / "tick.csv").exists()
    kept = place / "tick.csv.part"
    kept.write_text(kept.read_text() + '{"needs": {"rel')  # a line that was being written
    monkeypatch.undo()
    asked = []
    monkeypatch.setattr(
        "tachys.trying.points.at_point", lambda model, settings: asked.append(settings) or at_point(model, settings)
    )
    assert tachys(place, *call).returncode == 0
    assert len(asked) == 40 - 17
    gone_on = (place / "tick.csv").read_text()
    assert not kept.exists()
    assert tachys(place, *call).returncode == 0
    assert (place / "tick.csv").read_text() == gone_on
    assert gone_on.count("\n") == 41
    assert next(rows_of(one))[0] == gone_on.split("\n")[1].split(",")[0]


def test_points_that_are_no_model_say_why_and_the_rest_is_done(place):
    done = tachys(place, "sweep", "row_unit.toml", "--over", "isr.wheel.level=0..5/6", "--format", "json")
    data = json.loads(done.stdout)
    assert done.returncode == 0
    assert [point["wrong"] is None for point in data["points"]] == [True] * 4 + [False] * 2
    assert data["points"][4]["wrong"] == "isr.wheel.level: level 4 does not exist with core.levels = 4"
    assert data["breaks"][0]["holds"] == "1"


def test_a_map_of_two_keys_played_pictures_and_parquet(place):
    call = ("sweep", "row_unit.toml", "--over", "core.clock=12 MHz,48 MHz", "--over", "step.log.guard.for=10 us,60 us")
    done = tachys(place, *call, "-o", "m.png", "-o", "m.parquet", "--play", "5 ms")
    assert done.returncode == 0
    assert "12 MHz  BA\n48 MHz  .A\n" in done.stdout
    assert "written in time" in done.stderr
    assert (place / "m.png").read_bytes().startswith(b"\x89PNG")
    assert (place / "m.parquet").read_bytes().startswith(b"PAR1")
    line = tachys(place, "sweep", "row_unit.toml", "--over", "isr.tick.cost=1 us..9 us/3", "-o", "l.svg")
    assert line.returncode == 0
    assert "Every need holds on paper at every point." in line.stdout
    assert max(map(len, [*line.stdout.splitlines(), *done.stdout.splitlines()])) <= 100


@pytest.mark.parametrize(("over", "told"), [
    (["isr.weel.cost=1 us..2 us"], '--set: isr.weel.cost: there is no isr "weel"; did you mean "wheel"?'),
    (["isr.wheel.cots=1 us..2 us"], '--set: isr.wheel.cots: unknown key; did you mean "cost"?'),
    (["isr.wheel.cost=2 us..1 us"], "runs backwards; write the smaller value first: 1 us..2 us"),
    (["isr.wheel.on=a..b"], '"a" is no quantity'),
    (["isr.wheel.cost=1 us..2 MHz"], "are not of one kind; write both in one unit"),
    (["isr.wheel.cost=1 us"], "is one value; write A..B/20"),
    (["isr.wheel.cost=1 us..2 us/0"], '"0" is no number of points; 2 to'),
    (["isr.wheel.cost=0 us..2 us/x5"], "equal factors begin above 0"),
    (["source.wheel.gap=1 ms,2 ms", "source.wheel.every=1 ms,2 ms"], "exclude each other; set one of them"),
    (["isr.wheel.cost=1 us,2 us"] * 2, "isr.wheel.cost is named twice"),
    (["isr.wheel.cost=1 us,2 us"] * 3, "at most two keys are moved at once"),
    (["core.clock=1 MHz..2 MHz/2000", "core.wake=1 us..2 us/2000"], "4000000 points; at most 1000000"),
])  # fmt: skip
def test_what_cannot_be_swept_is_said_in_one_line(place, over, told):
    done = tachys(place, "sweep", "row_unit.toml", *(part for each in over for part in ("--over", each)))
    assert (done.returncode, done.stderr.count("\n")) == (2, 1)
    assert told in done.stderr
