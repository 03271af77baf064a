"""A time that must be neither too long nor too short: ``within = [least, most]``."""

import json
import random

import pytest

from attack import attack, toml
from calling import tachys
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.needs.kinds import WithinNeed
from tachys.needs.verdicts import Verdict
from tachys.simulation.engine import work_of
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds

MODEL = """
tachys = 1
core = { clock = "16 MHz", levels = 2, nesting = true, entry = "12 cycles", exit = "12 cycles" }
source = { a.every = "1 ms", b.gap = "100 us" }
isr.a = { on = "source.a", level = 1, cost = ["20 us", "30 us"], pins = { gate = ["high", { does = "low", at = "end" }] } }
isr.b = { on = "source.b", level = 0, cost = "5 us" }
pin.gate.first = "low"
need.width = { from = "pin.gate.rise", to = "pin.gate.fall", within = WITHIN }
probe.D0.shows = "pin.gate"
"""
LARGEST = 20_000  # of the work of a play


def told(place, within, *words):
    (place / "m.toml").write_text(MODEL.replace("WITHIN", within))
    done = tachys(place, *words, "--format", "json")
    return json.loads(done.stdout)["needs"]["width"] if done.returncode in (0, 1) else done.stderr


def test_the_width_of_a_pulse_on_paper_played_and_on_a_board(tmp_path):
    """It lasts 20 to 30 us of CPU time, and 5 us with an entry and an exit of 12 cycles more under the other."""
    good = told(tmp_path, '["20 us", "36.5 us"]', "bounds", "m.toml")
    assert (good["verdict"], good["bound"]) == ("met", 3.65e-05)
    short = told(tmp_path, '["20.001 us", "40 us"]', "bounds", "m.toml")
    assert (short["verdict"], short["reason"]) == ("at risk", "it can already come after 20 us")
    assert told(tmp_path, '["25 us", "40 us"]', "simulate", "m.toml", "--for", "100 ms")["misses"] > 0
    assert tachys(tmp_path, "simulate", "m.toml", "--for", "1 s", "--probes", "-o", "b.vcd").returncode == 1
    seen = told(tmp_path, '["25 us", "40 us"]', "check", "m.toml", "b.vcd")
    assert seen["verdict"] == "missed"
    assert {miss["kind"] for miss in seen["misses"]} == {"early"}
    assert all(miss["value"] < 25e-6 and not miss["causes"] for miss in seen["misses"])
    assert told(tmp_path, '["20 us", "36.5 us"]', "check", "m.toml", "b.vcd")["verdict"] == "met"
    by_the_clock = told(tmp_path, '["640 cycles", "640 cycles"]', "bounds", "m.toml", "--set", "core.tolerance=1 %")
    assert "leaves no time between its ends" in by_the_clock
    assert "runs backwards" in told(tmp_path, '["41 us", "40 us"]', "bounds", "m.toml")


@pytest.mark.parametrize("seed", range(40))
def test_what_is_proved_to_come_neither_too_soon_nor_too_late_does_not(seed):
    """The limits of each need are put at both ends of what paper allows; whatever is played keeps them."""
    model = attack(9_700_000 + seed)
    try:
        paper = bounds(read_model(toml(model), "m.toml"))
    except InputError:
        return
    held = 0
    for name, need in paper.needs.items():
        if (
            isinstance(need.need, WithinNeed)
            and need.bound
            and need.figure is not None
            and name in model.get("need", {})
        ):
            least = min(need.figure.least, need.bound)
            model["need"][name]["within"] = [f"{least} ps", f"{need.bound} ps"]
            held += 1
    if not held:
        return
    system = read_model(toml(model), "m.toml")
    proved = {name for name, need in bounds(system).needs.items() if need.proved and isinstance(need.need, WithinNeed)}
    dice, length = random.Random(seed), 3 * 10**10
    length = max(1000, length * LARGEST // max(LARGEST, work_of(system, length)))
    for costs in ("least", "most", "drawn"):
        played = simulate(system, length, RunOptions(costs, seed=dice.randrange(1000)))
        assert not {name for name in proved if played.needs[name].verdict is Verdict.MISSED}
