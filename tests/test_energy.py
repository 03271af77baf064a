"""Supply current and battery life: by hand, charge that is kept to the last rational, paper against play, a river gauge."""

from fractions import Fraction as F

import pytest

from attack import Attack, attack, toml
from tachys.energy.current import on_paper, played
from tachys.energy.life import life
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate

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


def energetic(seed):
    """A model by chance, with currents of all states, and of some units."""
    model = attack(seed) if seed % 2 else Attack(seed).model()
    for number, unit in enumerate(model.get("unit", {}).values()):
        if number % 2:
            unit["current"] = f"{1 + number} mA"
    return toml(model).replace("[core]\n", f"[core]\n{CURRENTS}\n")


@pytest.mark.parametrize("first", [0, 40, 2_000_001, 200_000_000, 1_903_000_000])
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
        assert paper.average[0] <= found.average[0], seed
        assert found.average[1] <= paper.average[1], seed
