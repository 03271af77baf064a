"""Supply current and battery life: by hand, charge that is kept to the last rational, paper against play, a river gauge."""

import json
import random
import re
from fractions import Fraction as F
from itertools import pairwise

import pytest
from pydantic import TypeAdapter

from attack import Attack, attack, toml
from calling import tachys
from tachys.energy.current import on_paper
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.outputs import output_type
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.supply import played
from tachys.simulation.waking import longest_wake_up
from tachys.worstcase.analysis import bounds
from tachys.worstcase.supply import life
from two_machines import assert_agreement

S = 10**12
NODE = """
tachys = 1
[core]
clock = "8 MHz"
entry = "0 us"
exit = "0 us"
current = { run = "3.2 mA", spin = "3.2 mA", wake = "1 mA", sleep = "1.9 uA" }
[source.alarm]
every = "20 s"
offset = "10 s"
[isr.alarm]
on = "source.alarm"
cost = "400 us"
[loop]
overhead = "80 us"
[step.nap]
sleep = true
[battery]
capacity = "220 mAh"
usable = "80 %"
self_discharge = "1 %/year"
"""
TICKING = '[source.tick]\nevery = "1 ms"\noffset = "0.5 ms"\n[isr.tick]\non = "source.tick"\ncost = "12 us"\n'
CURRENTS = "current = { run = ['3 mA', '3.2 mA'], spin = '2.1 mA', wake = '0.5 mA', sleep = '1.9 uA' }"


def average(text, seconds=200, **how):
    return played(simulate(read_model(text, "m.toml"), seconds * S, RunOptions(**how))).average


def test_an_alarm_each_20_s_by_hand():
    """480 us awake each 20 s, and 80 us before the first halt: 3.2 mA then, 1.9 uA else."""
    awake = F(10 * 480 + 80, 10**6)
    assert average(NODE) == ((F(19, 10**7) * (200 - awake) + F(32, 10**4) * awake) / 200,) * 2
    paper = on_paper(read_model(NODE, "m.toml"))
    share = F(480, 20 * 10**6)
    hand = F(19, 10**7) * (1 - share) + F(32, 10**4) * share
    assert round(float(hand) * 1e6, 5) == 1.97675
    assert paper.average[1] == hand, "each alarm wakes it once, so no more can be awake"


def test_a_pin_takes_a_current_while_it_is_high():
    """400 us each 20 s at 10 mA: 0.2 uA on average; turned over each 20 s it is high half of the time."""
    text = NODE.replace("cost =", 'pins = { valve = ["high", { does = "low", at = "end" }] }\ncost =')
    text += '[pin.valve]\nfirst = "low"\ncurrent = "10 mA"\n'
    found = played(simulate(read_model(text, "m.toml"), 200 * S, RunOptions()))
    assert found.states["pin.valve"].charge == (F(10 * 400, 10**6) * F(1, 100),) * 2
    assert found.causes["pin.valve"] == found.states["pin.valve"]
    paper = on_paper(read_model(text, "m.toml"))
    assert paper.states["pin.valve"].share == (F(400, 20 * 10**6),) * 2
    turned = read_model(text.replace('["high", { does = "low", at = "end" }]', '"toggle"'), "m.toml")
    assert on_paper(turned).states["pin.valve"].share == (F(1, 2), F(1, 2))
    pulse = read_model(
        text.replace('["high", { does = "low", at = "end" }]', '{ does = "pulse", for = "1 s" }'), "m.toml"
    )
    assert on_paper(pulse).states["pin.valve"].share == (F(1, 20), F(1, 20))
    low = text.replace('["high", { does = "low", at = "end" }]', '["low", { does = "high", at = "end" }]')
    share = 1 - F(400, 20 * 10**6)
    assert on_paper(read_model(low, "m.toml")).states["pin.valve"].share == (share, share)
    vague = text.replace('["high", { does = "low", at = "end" }]', '"pulse"')
    with pytest.raises(InputError, match="how long its pulse is"):
        read_model(vague, "m.toml")


def test_a_tick_that_wakes_it_each_millisecond_takes_twenty_times_as_much():
    """92 us in each millisecond, but for those in which the alarm comes."""
    assert 0.29e-3 < float(average(NODE + TICKING)[1]) < 0.30e-3
    quick = NODE.replace('overhead = "80 us"', 'overhead = "1 ns"')
    found = average(quick + TICKING)
    assert 39e-6 < float(found[1]) < 41e-6, "12 us of each ms: 1.9 uA · 0.988 + 3.2 mA · 0.012 = 40.3 uA"


def test_who_takes_it():
    found = played(simulate(read_model(NODE + TICKING, "m.toml"), 10 * S, RunOptions()))
    most = max(found.causes, key=lambda each: found.causes[each].charge[1])
    assert most == "loop", "80 us of each pass, 12 us of each tick"
    waits = NODE.replace("sleep = true", 'pause = "300 ms"\nsleep = true')
    found = played(simulate(read_model(waits, "m.toml"), 2000 * S, RunOptions()))
    assert max(found.causes, key=lambda each: found.causes[each].charge[1]) == "step.nap"
    assert found.states["spin"].share[0] == F(101 * 3, 10 * 2000), "a pause before each halt"


def test_life_by_hand():
    """220 mAh · 0.8 over 10 uA and what leaks: 2.2 mAh a year."""
    battery = read_model(NODE, "m.toml").battery
    year = 365 * 86400
    leak = F(220, 1000) * 3600 * F(1, 100) / year
    assert life(battery, (F(0), F(1, 10**5))) == (
        F(220, 1000) * 3600 * F(4, 5) / (F(1, 10**5) + leak), F(220, 1000) * 3600 * F(4, 5) / leak,
    )  # fmt: skip
    assert life(battery, None) is None


def test_a_state_without_a_current_makes_it_unknown_never_zero():
    text = NODE.replace('wake = "1 mA", ', "")
    assert on_paper(read_model(text, "m.toml")).average is not None, "without a time to wake nothing is missing"
    text = text.replace('exit = "0 us"', 'exit = "0 us"\nwake = "10 us"')
    assert on_paper(read_model(text, "m.toml")).average is None
    assert on_paper(read_model(text, "m.toml")).missing == ("wake",)


def with_pins(model, dice):
    """Pins that take a current while they are high, moved by whatever there is."""
    things = [(kind, name) for kind in ("source", "unit", "isr", "step") for name in model.get(kind, {})]
    for number in range(2):
        pin = f"p{number}"
        model.setdefault("pin", {})[pin] = {"first": dice.choice(["low", "high"]), "current": f"{2 + number} mA"}
        kind, name = dice.choice(things)
        pulse = {"does": "pulse", "for": ["30 ns", f"{dice.choice([40, 3000])} ns"]}
        both = ["high", {"does": "low", "at": "end"}]
        whole = [] if kind == "source" else [both, both, [{"does": "high", "at": "end"}, "low"]]
        model[kind][name].setdefault("pins", {})[pin] = dice.choice([pulse, "toggle", "high", *whole])
        if model[kind][name]["pins"][pin] == "high":
            kind, name = dice.choice(things)
            model[kind][name].setdefault("pins", {}).setdefault(pin, "low")


def energetic(seed):
    """A model by chance, with currents of all states, and of some units."""
    model = attack(seed) if seed % 2 else Attack(seed).model()
    for number, unit in enumerate(model.get("unit", {}).values()):
        if number % 2:
            unit["current"] = f"{1 + number} mA"
    for depth in model.get("sleep", {}).values():
        depth["current"] = "0.4 uA"
    if seed % 3 == 0:
        with_pins(model, random.Random(seed))
    return toml(model).replace("[core]\n", f"[core]\n{CURRENTS}\n")


@pytest.mark.parametrize(
    "first", [0, 2_000_001, 200_000_000, 9_903_000_000, 16_000_000_001, 18_002_000_001, 64_000_000_001, 128_000_000_000]
)
def test_charge_by_state_is_charge_by_cause_and_no_more_than_paper_allows(first):
    for seed in range(first, first + 40):
        try:
            system = read_model(energetic(seed), "m.toml")
        except InputError:
            continue
        length = 400_000_000
        found = played(simulate(system, length, RunOptions(costs="drawn", phases="drawn", seed=seed)))
        for side in (0, 1):
            of_states = sum(each.charge[side] for each in found.states.values())
            assert of_states == sum(each.charge[side] for each in found.causes.values())
            assert of_states == found.average[side] * F(length, S)
        paper = on_paper(system, over=length)
        assert paper.wakes is None or found.wakes <= paper.wakes, seed
        assert paper.average[0] <= found.average[0], seed
        assert found.average[1] <= paper.average[1], seed


# --- how deep it sleeps ----------------------------------------------------------------------------------------------

DEEP = NODE.replace("sleep = true", 'sleep = "deep"').replace('run = "3.2 mA"', 'run = "3.2 mA"') + (
    '[sleep.deep]\nwake = "120 us"\ncurrent = "0.4 uA"\n'
    '[need.heard]\nfrom = "source.alarm"\nto = "isr.alarm.end"\nwithin = "530 us"\n'
)


def test_a_deeper_sleep_takes_longer_to_wake_and_less_current():
    """Per alarm 120 us at 1 mA and 480 us at 3.2 mA, 0.4 uA else; the routine begins 120 us later."""
    found = played(simulate(read_model(DEEP, "m.toml"), 200 * S, RunOptions()))
    awake, wakes = F(10 * 480 + 80, 10**6), F(10 * 120, 10**6)
    hand = F(32, 10**4) * awake + F(1, 10**3) * wakes + F(4, 10**7) * (200 - awake - wakes)
    assert found.average == (hand / 200, hand / 200)
    assert set(found.states) == {"run", "wake", "sleep.deep"}
    assert found.wakes == F(10, 200)
    assert found.causes["isr.alarm"].charge[1] == 10 * (F(32, 10**4) * F(400, 10**6) + F(1, 10**3) * F(120, 10**6))
    paper = bounds(read_model(DEEP, "m.toml"))
    assert paper.isrs["alarm"].latency.most == 120_000_000
    assert paper.needs["heard"].verdict == "met"
    both = DEEP.replace('sleep = "deep"', 'every = "3 s"\nsleep = "deep"') + "[step.doze]\nsleep = true\n"
    found = played(simulate(read_model(both, "m.toml"), 200 * S, RunOptions()))
    assert {"sleep", "sleep.deep"} <= set(found.states)


@pytest.mark.parametrize("seed", range(8))
def test_both_machines_wake_alike(seed):
    dice = random.Random(seed)
    text = DEEP.replace('every = "20 s"\noffset = "10 s"', f'gap = "{dice.choice([500, 700, 2000])} us"')
    text = text.replace('sleep = "deep"', 'polls = "due"\nsleep = "deep"').replace(
        'cost = "400 us"', f'cost = "{dice.randint(1, 400)} us"\nsets = "due"'
    )
    assert_agreement(read_model(text + "[step.doze]\nsleep = true\n", "m.toml"), RunOptions(seed=seed), S // 10)


def test_what_cannot_be_said_yet_is_said():
    for more, what in [
        ('[state.run]\ncurrent = "1 mA"\n', "write .core. current"),
        ('[battery]\ncapacity = "220 mAh"\nusable = "0 %"\n', "how much of it can be used"),
        ('[step.b]\nsleep = "deeper"\n', "names no depth of sleep"),
        ('[step.b]\nsleep = { plain_if = [] }\n[step.c]\nsleep = { plain_if = ["unit.x"] }\n', "names no unit"),
    ]:
        text = (NODE if "battery" not in more else NODE.partition("[battery]")[0]) + more
        with pytest.raises(InputError, match=what):
            read_model(text, "m.toml")


def test_the_command_says_it_on_one_screen_as_data_and_as_rows(tmp_path):
    assert tachys(tmp_path, "new", "here", "--like", "river-gauge").returncode == 0
    asked = ("energy", "here/model.toml", "here/board.vcd", "--for", "200 s")
    told = tachys(tmp_path, *asked)
    assert told.returncode == 0
    assert max(map(len, told.stdout.splitlines())) <= 100
    assert "--variant asleep" in told.stdout
    data = json.loads(tachys(tmp_path, *asked, "--format", "json").stdout)
    found = TypeAdapter(output_type("energy")).validate_python(data)
    assert found["paper"]["average"]["least"] < found["played"]["average"]["most"] < found["paper"]["average"]["most"]
    assert list(found["captures"]) == ["here/board.vcd"]
    for each in found["savings"]:
        assert each["average"] < found["played"]["average"]["most"]
    drawn = tachys(tmp_path, *asked, "--no-savings", "-o", "o.svg")
    assert drawn.stdout.splitlines()[-1] == "Wrote o.svg."
    assert "step.gauge" in (tmp_path / "o.svg").read_text()
    rows = tachys(tmp_path, *asked, "--no-savings", "--format", "csv").stdout.splitlines()
    assert rows[0].startswith("what,name,share played")
    assert any(row.startswith("cause,step.gauge,") for row in rows)


def test_what_is_not_given_is_asked_for(tmp_path):
    (tmp_path / "m.toml").write_text(NODE.replace('spin = "3.2 mA", ', "").replace("sleep = true", 'pause = "1 s"'))
    told = tachys(tmp_path, "energy", "m.toml", "--for", "30 s")
    assert told.returncode == 0
    assert tachys(tmp_path, "energy", "m.toml", "--for", "30 s", "-o", "o.png").returncode == 2
    (tmp_path / "d.toml").write_text(DEEP.replace('current = "0.4 uA"\n', ""))
    deep = tachys(tmp_path, "energy", "d.toml", "--for", "30 s").stdout
    assert 'no current is given for sleep.deep; write [sleep.deep] current = "1 uA"' in " ".join(deep.split())
    assert 'no current is given for spin; write [core] current = { spin = "1 mA" }' in " ".join(told.stdout.split())


# --- what must hold --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("need", "verdict"),
    [
        ('current = "1.98 uA"', "met"),  # 1.97675 at most
        ('current = "1.97 uA"', "at risk"),
        ('current = "1.96 uA"', "missed"),  # each alarm takes 400 us at least: 1.9 · (1 - 2e-5) + 3200 · 2e-5 = 1.96396
        ('lasts = "9 years"', "met"),  # 176 mAh / (1.97675 + 0.25114 uA) = 78 999 hours, 9.018 years
        ('lasts = "9.05 years"', "at risk"),
        ('lasts = "9.1 years"', "missed"),  # 176 mAh / (1.96396 + 0.25114 uA) = 79 455 hours, 9.070 years
    ],
)
def test_what_a_life_or_an_average_must_be_is_judged_on_paper(need, verdict, tmp_path):
    system = read_model(f"{NODE}[need.frugal]\n{need}\n", "m.toml")
    assert bounds(system).needs["frugal"].verdict == verdict
    assert simulate(system, 100 * S, RunOptions()).needs["frugal"].verdict == verdict
    (tmp_path / "m.toml").write_text(f"{NODE}[need.frugal]\n{need}\n")
    told = tachys(tmp_path, "bounds", "m.toml")
    assert (
        ("9.018 years" in told.stdout) or ("9.01 years" in told.stdout)
        if "lasts" in need
        else "1.977 uA" in told.stdout
    )
    assert told.returncode == (verdict == "missed")


def test_what_such_a_need_lacks_is_said():
    for text, what in [
        (NODE.partition("[battery]")[0] + '[need.n]\nlasts = "2 years"\n', "there is no battery"),
        (NODE + '[need.n]\nlasts = "2 ages"\n', "unknown unit"),
        (NODE + '[need.n]\nlasts = "900 years"\n', "empties itself"),
    ]:
        with pytest.raises(InputError, match=what):
            read_model(text, "m.toml")
    silent = bounds(read_model(NODE.replace('run = "3.2 mA", ', "") + '[need.n]\ncurrent = "2 uA"\n', "m.toml"))
    assert silent.needs["n"].verdict == "unseen"
    assert "no current is given for run" in silent.needs["n"].reason


def test_the_current_over_one_wake_up_is_what_each_state_takes():
    text = DEEP.replace("[core]\n", "[core]\n")
    pieces = longest_wake_up(read_model(text, "m.toml"), RunOptions(costs="most"), 200 * S, F(1, 20))
    states = [(piece.state, float(piece.amperes)) for piece in pieces]
    assert [state for state, _ in states][:3] == ["sleep.deep", "wake", "run"]
    assert states[0] == states[-1]
    assert all(one.end == other.begin for one, other in pairwise(pieces))
    assert not longest_wake_up(read_model(text, "m.toml"), RunOptions(), 200 * S, F(0))


def test_a_pin_stands_beside_the_others_on_the_screen(tmp_path):
    text = NODE.replace("cost =", 'pins = { valve = ["high", { does = "low", at = "end" }] }\ncost =')
    (tmp_path / "m.toml").write_text(text + '[pin.valve]\nfirst = "low"\ncurrent = "45 mA"\n')
    told = tachys(tmp_path, "energy", "m.toml", "--for", "200 s", "-o", "m.png")
    assert told.returncode == 0, told.stderr
    assert re.search(r"pin\.valve.* high ", told.stdout)
    assert re.search(
        r"pin\.valve +45\.00 mA|pin\.valve", tachys(tmp_path, "bounds", "m.toml", "--why", "current").stdout
    )
