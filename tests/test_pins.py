"""Outputs of the board: played, and on captures what they did beside what writes them."""

import random

import pytest

from attack import attack, toml
from boards import first, on_board
from planted import MS, US
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.analyser import busy, steps, toggles
from tachys.demo.machine import Burns, Task
from tachys.drawing.scene import Moment, scene_of_capture
from tachys.drawing.text import text_lines
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.timeline import signals
from tachys.simulation.writing import play_lanes, timeline_bytes
from tachys.worstcase.analysis import bounds

NODE = """
tachys = 1
[core]
clock = "1 GHz"
[pin.gate]
first = "low"
[pin.lamp]
first = "high"
[pin.horn]
[pin.strobe]
[source.wheel]
every = "100 us"
offset = "100 us"
pins = { strobe = { does = "pulse", for = "7 us" } }
[isr.wheel]
on = "source.wheel"
cost = "10 us"
moments = { middle = "4 us" }
pins = { gate = ["high", { does = "low", at = "middle" }], lamp = ["low", { does = "high", at = "end" }], horn = "toggle" }
[need.opens]
from = "source.wheel"
to = "pin.gate.rise"
within = "2 us"
[need.closes]
from = "pin.gate.rise"
to = "pin.gate.fall"
within = "5 us"
[need.lights]
from = "source.wheel"
to = "pin.lamp.rise"
within = "9 us"
"""


def test_pins_are_played_and_needs_of_their_edges_are_those_of_what_writes_them():
    system = read_model(NODE, "m.toml")
    lanes = play_lanes(system, RunOptions(costs="most"), 0, 350 * US)
    found = {signal.name: signal for signal in signals(system, lanes, probes=False)}
    at = [100 * US, 200 * US, 300 * US]
    both = lambda length: [change for t in at for change in ((t, 1), (t + length, 0))]  # noqa: E731
    assert list(found["pin.gate"].changes) == both(4 * US)
    assert found["pin.gate"].first == 0
    assert list(found["pin.lamp"].changes) == [(time, 1 - level) for time, level in both(10 * US)]
    assert list(found["pin.strobe"].changes) == both(7 * US)
    assert list(found["pin.horn"].changes) == [(100 * US, 1), (200 * US, 0), (300 * US, 1)]
    verdicts = {name: str(need.verdict) for name, need in bounds(system).needs.items()}
    assert verdicts == {"opens": "met", "closes": "met", "lights": "missed"}


def test_of_the_writes_of_one_instant_the_last_counts():
    text = NODE.replace('horn = "toggle"', 'horn = ["high", "low"]')
    lanes = play_lanes(read_model(text, "m.toml"), RunOptions(costs="most"), 0, 350 * US)
    found = {signal.name: signal for signal in signals(read_model(text, "m.toml"), lanes, probes=False)}
    assert not found["pin.horn"].changes


@pytest.mark.parametrize(
    ("old", "new", "what"),
    [
        ('horn = "toggle"', 'harn = "toggle"', 'names no pin; did you mean "horn"'),
        ('at = "middle"', 'at = "midle"', "nothing that happens in it"),
        (', horn = "toggle"', "", "nothing writes it"),
        ('lamp = ["low", {', 'lamp = ["pulse", {', "a pulse beside other actions"),
        ('"pin.lamp.rise"', '"pin.horn.rise"', "not every event"),
        ('"pin.lamp.rise"', '"pin.lump.rise"', "names no event"),
        ('does = "high", at', 'does = "high", for = "1 us", at', "length of a pulse"),
        ('does = "pulse",', 'does = "pulse", at = "end",', "a source has but one instant"),
    ],
)
def test_what_is_wrong_with_a_pin_is_said(old, new, what):
    assert old in NODE
    with pytest.raises(InputError, match=what):
        read_model(NODE.replace(old, new), "m.toml")


@pytest.mark.parametrize("first", [0, 2_000_000, 1_000_000_000, 4_000_000_000, 16_000_000_000])
def test_the_engine_moves_pins_as_its_records_tell(first):
    moved = 0
    for seed in range(first, first + 40):
        dice, model = random.Random(seed), attack(seed)
        things = [("source", name) for name in model["source"]] + [("isr", name) for name in model["isr"]]
        things += [("step", name) for name in model.get("step", {})]
        for pin in range(3):
            model.setdefault("pin", {})[f"p{pin}"] = {"first": dice.choice(["low", "high"])}
            pulse = dice.random() < 0.3
            for kind, name in dice.sample(things, min(len(things), dice.choice([1, 2]))):
                does = (
                    {"does": "pulse", "for": f"{dice.choice([1, 40, 3000])} ns"}
                    if pulse
                    else (
                        dice.choice(
                            ["high", "low", "toggle", ["high", {"does": "low", "at": "end"}]][: 3 + (kind != "source")]
                        )
                    )
                )
                model[kind][name].setdefault("pins", {})[f"p{pin}"] = does
        try:
            system = read_model(toml(model), "m.toml")
        except InputError:
            continue
        how, end = RunOptions(costs=dice.choice(["most", "drawn"]), seed=seed), 4_000_000
        lanes = {each.name: each for each in signals(system, play_lanes(system, how, 0, end), probes=False)}
        played = simulate(system, end, how).pins
        for pin in system.pins:
            told, was = lanes[pin.thing], pin.first
            changes = [(at, level) for at, level in told.changes if at <= end]
            high = sum(
                b - a
                for (a, level), (b, _) in zip([(0, told.first), *changes], [*changes, (end, 0)], strict=True)
                if level
            )
            assert abs(played[pin.name].high - high) == 0, (seed, pin)
            assert played[pin.name].edges == len(changes) + (told.first != was), (seed, pin)
            moved += len(changes) > 0
    assert moved > 30


def test_a_line_with_the_name_of_a_pin_shows_it(tmp_path):
    system = read_model(NODE, "m.toml")
    played = timeline_bytes(system, RunOptions(costs="most"), (0, 4000 * US), "m.vcd", probes=False)
    result = check(system, read_vcd([played], "m.vcd"))
    assert set(result.board.pins) >= {"lamp", "strobe"}, "what happens within a routine has no line"
    assert not result.foreign
    assert not result.findings
    turned = NODE.replace('lamp = ["low", { does = "high"', 'lamp = ["high", { does = "low"')
    found = check(read_model(turned, "m.toml"), read_vcd([played], "m.vcd")).findings
    assert ("pin-inverted", "pin.lamp") in [(each.code, each.about) for each in found]


# --- on a board ------------------------------------------------------------------------------------------------------

GATE = """
[pin.gate]
first = "low"
[pin.report]
[pin.count]
[step.log]
every = "10 ms"
cost = ["50 us", "60 us"]
pins = { report = { does = "pulse", at = "end", for = ["95 us", "105 us"] } }
[probe.D2]
shows = "step.log"
[probe.D6]
shows = "pin.gate"
[probe.D7]
shows = "pin.report"
[probe.D8]
shows = "pin.count"
"""
MODEL = GATE
WHEEL = 'on = "source.wheel"\n'


def board(gate=None, report=None, count=None, seed=2, model=GATE):
    """What a check says of a board with pins, each as it should be or as the test has it."""

    def lines(truth):
        ends = [end for name, _, end in truth.steps if name == "log"]
        shown = {
            "D2": steps(truth, "log"), "D6": busy(truth, "wheel", 500_000, 200_000),
            "D7": [change for end in ends for change in ((end, 1), (end + 100 * US, 0))],
            "D8": toggles([run.start for run in truth.served]),
        }  # fmt: skip
        for name, change in (("D6", gate), ("D7", report), ("D8", count)):
            if change is not None:
                shown[name] = change(truth, shown[name])
        return shown

    more = model
    task = Task("log", (Burns((51 * US, 59 * US)),), every=10 * MS)
    import boards

    whole = boards.BOARD
    boards.BOARD = whole.replace(
        WHEEL, WHEEL + 'pins = { gate = ["high", { does = "low", at = "end" }], count = "toggle" }\n'
    )
    try:
        return on_board(more, seed, False, (task,), lines)[0]
    finally:
        boards.BOARD = whole


@pytest.mark.parametrize("seed", range(6))
def test_right_pins_are_not_blamed(seed):
    result = board(seed=seed)
    assert not result.findings
    assert set(result.board.pins) == {"gate", "report", "count"}


def lost(truth, levels):
    dice = random.Random(1)
    pairs = list(zip(levels[::2], levels[1::2], strict=True))
    return [change for pair in pairs if dice.random() > 0.1 for change in pair]


def twice(truth, levels):
    dice, found = random.Random(1), []
    for rise, fall in zip(levels[::2], levels[1::2], strict=False):
        found += [rise, (rise[0] + 2 * US, 0), (rise[0] + 3 * US, 1), fall] if dice.random() < 0.2 else [rise, fall]
    return found


def inverted(truth, levels):
    return [(0, 1), *((at, 1 - level) for at, level in levels)]


def still(truth, levels):
    return [(0, 0)]


def by_log(truth, levels):
    return steps(truth, "log")


def alone(truth, levels):
    found = []
    for before, after in zip(levels[1::2], levels[2::2], strict=False):
        middle = (before[0] + after[0]) // 2
        found += [(middle, 1), (middle + 10 * US, 0)]
    return sorted([*levels, *found[::60]])


def longer(truth, levels):
    return [(at + (40 * US if not level else 0), level) for at, level in levels]


@pytest.mark.parametrize(
    ("faults", "code"),
    [
        ({"gate": lost}, "pin-edges"),
        ({"gate": twice}, "pin-edges"),
        ({"gate": inverted}, "pin-inverted"),
        ({"gate": still}, "pin-still"),
        ({"gate": by_log}, "pin-other"),
        ({"gate": alone}, "pin-alone"),
        ({"count": twice}, "pin-edges"),
        ({"count": still}, "pin-still"),
        ({"report": longer}, "pulse-longer"),
        ({"report": still}, "pin-still"),
        ({"report": lost}, "pin-edges"),
    ],
)
@pytest.mark.parametrize("seed", range(2))
def test_what_a_pin_did_wrong_is_named_first(faults, code, seed):
    (name,) = faults
    assert first(board(**faults, seed=seed)) == [(f"pin.{name}", code)]


def test_a_pin_alone_shows_what_writes_it():
    result = board(model=GATE.replace('[probe.D2]\nshows = "step.log"\n', '[probe.D2]\nshows = "pin.report2"\n')
                   .replace("[pin.report]\n", "[pin.report]\n[pin.report2]\n")
                   .replace("pins = { report", 'pins = { report2 = ["high", { does = "low", at = "end" }], report'))  # fmt: skip
    assert not result.findings
    assert result.steps["log"].duration.count > 30


def test_a_picture_of_a_moment_shows_when_a_pin_is_high():
    result = board(gate=lost)
    at = result.findings[0].at
    scene = scene_of_capture(result, Moment(at - MS, at + MS, None))
    assert [lane.thing for lane in scene.lanes if lane.kind == "pin"] == ["pin.gate", "pin.report", "pin.count"]
    assert all(bar.state == "high" for lane in scene.lanes if lane.kind == "pin" for bar in lane.bars)
    assert any("h pin is high" in line for line in text_lines(scene, 100))
