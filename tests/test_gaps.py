"""Across a gap in a record nothing is paired, timed, divided or counted."""

import random

from tachys.capture.eventstream import read_event_stream
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement
from tachys.checking.out.explaining import explain_finding
from tachys.demo.machine import Machine, Plan, Routine
from tachys.drawing.scene import Moment, scene_of_capture
from tachys.drawing.text import text_lines
from tachys.model.loading import read_model

MODEL = """
tachys = 1
[core]
clock = "16 MHz"
levels = 2
entry = "12 cycles"
exit = "10 cycles"
[source.tick]
every = "1 ms"
[source.edge]
gap = "150 us"
[isr.tick]
on = "source.tick"
level = 1
cost = ["20 us", "30 us"]
[isr.edge]
on = "source.edge"
level = 0
cost = ["8 us", "12 us"]
deadline = "60 us"
[need.pace]
of = "source.edge"
every = "200 us"
give_or_take = "30 %"
[need.kept]
of = "isr.edge"
lost = 0
"""


CYCLE, US = 62_500, 10**6


def record(seed, gaps=0):
    """What the board tells of itself in tenths of a microsecond, with stretches of it lost."""
    dice, until = random.Random(seed), 60_000 * US
    edges, now = [], 500 * US
    while now < until:
        edges.append(now)
        now += dice.randint(190, 210) * US
    ticks = list(range(40 * US, until, 1000 * US))
    routines = (Routine("edge", 0, edges, (8 * US, 12 * US)), Routine("tick", 1, ticks, (20 * US, 30 * US)))
    truth = Machine(Plan(routines, (), 0, True, 12 * CYCLE, 10 * CYCLE, 22 * CYCLE), seed).run(until)
    told = [(at, "source.edge,mark") for at in edges]
    for run in truth.served:
        told += [(run.start, f"isr.{run.name},enter"), (run.end, f"isr.{run.name},leave")]
    told.sort()
    out, lost, skip = ["# unit = 100 ns"], sorted(dice.sample(range(20, len(told) - 40), gaps)), 0
    for place, (at, what) in enumerate(told):
        if lost and place == lost[0]:
            lost.pop(0)
            out.append(",gap")
            skip = dice.randint(1, 15)
        skip -= 1
        if skip < 0:
            out.append(f"{at // 100_000},{what}")
    return "\n".join(out) + "\n"


def wrong_in(text):
    result = check(read_model(MODEL, "m.toml"), read_event_stream([text.encode()], "r.events"))
    told = [f"{each.code} {each.about}" for each in result.findings]
    told += [f"{f.about}.{f.key}" for f in result.figures if f.state is Agreement.REFUTES]
    return told, {name: need.count for name, need in result.needs.items() if need.count}, result


def test_a_record_with_gaps_gives_no_misses_and_blames_nobody():
    for seed in range(6):
        told, missed, result = wrong_in(record(seed, gaps=seed * 3))
        assert told == []
        assert missed == {}
        assert (f"{seed * 3} gaps" in str(result.remarks)) == (seed > 0)


def test_a_lost_leave_is_a_gap_and_no_long_run():
    text = record(1)
    lines = text.splitlines()
    for what in ("isr.edge,leave", "isr.tick,leave", "isr.edge,enter"):
        places = [k for k, line in enumerate(lines) if line.endswith(what)][5:300:40]
        told, missed, result = wrong_in("\n".join(line for k, line in enumerate(lines) if k not in places) + "\n")
        assert told == []
        assert missed == {}
        assert "twice in a row" in str(result.remarks)


def test_a_moment_behind_a_gap_is_taken_apart_in_its_own_part():
    lines = record(1).splitlines()
    places = [k for k, line in enumerate(lines) if line.endswith("isr.edge,leave")]
    late = next(k for k in places[-9:] if int(lines[k + 1].split(",")[0]) > int(lines[k].split(",")[0]) + 700)
    at, what = lines[late].split(",", 1)
    lines[late] = f"{int(at) + 600},{what}"
    middle = places[len(places) * 2 // 3]
    *_, result = wrong_in("\n".join([*lines[: middle + 1], ",gap", *lines[middle + 1 :]]) + "\n")
    assert [each.name for each in result.findings] == ["cost-longer isr.edge"]
    explained = explain_finding(result, 1)
    assert explained.result.capture is result.parts[1]
    assert explained.result.capture.begin <= explained.begin <= explained.result.capture.end < result.capture.end + 1
    assert any(
        "isr.edge" in line and "#" in line
        for line in text_lines(scene_of_capture(explained.result, Moment(*explained.window)), 100)
    )
    assert result.capture.length > sum(part.length for part in result.parts[:1])


def test_what_is_not_told_between_two_gaps_stays_unknown():
    text = b"1000,a,enter\n2000,b,enter\n,gap\n9000,a,leave\n,gap\n12000,a,enter\n13000,b,leave\n"
    found = read_event_stream([text], "x.events").signals["b"]
    assert found.at.tolist() == [999, 2000, 12999, 13000]
    assert found.value.tolist() == [0, -1, 1, 0]
