"""A timeline that is played and then checked as a capture gets the verdicts that the simulation gave, for every need."""

import pytest

from playing import ways
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.project import model_text
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict
from tachys.simulation.running import simulate
from tachys.simulation.writing import timeline_bytes
from tachys.worstcase.analysis import bounds

MS = 10**9
NEEDS = """
[need.quick]
from = "source.wheel"
to = "isr.wheel.end"
within = "{wheel} us"
[need.old]
from = "source.pressure"
to = "step.regulate.end"
within = "{age} us"
age = true
[need.kept]
of = "isr.bus_byte"
lost = 0
[need.steady]
of = "isr.pressure.start"
jitter = "{jitter} us"
[need.pace]
of = "source.pressure"
every = "250 us"
give_or_take = "{share} %"
[need.full]
load = "{load} %"
over = "1 ms"
"""


@pytest.mark.parametrize("limits", [
    {"wheel": 400, "age": 9000, "jitter": 300, "share": 20, "load": 100},
    {"wheel": 6, "age": 60, "jitter": 3, "share": 20, "load": 10},
])  # fmt: skip
@pytest.mark.parametrize("seed", range(3))
def test_simulation_and_check_of_one_timeline_agree(limits, seed):
    text = model_text()
    text = text[: text.index("[probe.")] + NEEDS.format(**limits)
    system = read_model(text, "model.toml")
    paper = bounds(system)
    played = simulate(system, 60 * MS, ways(seed))
    timeline = timeline_bytes(system, ways(seed), (0, 60 * MS), "run.vcd", probes=False)
    seen = check(system, read_vcd([timeline], "run.vcd"), paper)
    for name, need in played.needs.items():
        told = seen.needs[name]
        if told.basis == "paper":  # a line of a timeline does not show losses behind what it merges
            continue
        assert told.verdict is need.verdict or Verdict.AT_RISK in (told.verdict, need.verdict), name
        assert (told.count > 0) == (need.misses > 0), (name, told.count, need.misses)
