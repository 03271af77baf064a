"""Boards by chance with buffers, each with a model that is right about it: never blamed, no loss and no level invented."""

from itertools import pairwise

from attack import Stocked
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.analyser import Analyser, Recording, busy, steps, to_vcd, toggles
from tachys.demo.machine import Machine
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from two_machines import plan

NS = 1000
UNTIL, BEGIN = 60_000 * NS, 3_000 * NS + 137
SHORTEST = 3  # samples of an event, a body, what lies between two

# boards on which a right model was blamed once, with their sampling step in ps
BLAMED = [
    (1, 100), (97, 100), (130, 100), (148, 100), (176, 100), (209, 100), (235, 100), (263, 100), (448, 100), (589, 100),
    (1218, 100), (693, 1000), (944, 1000),
]  # fmt: skip


def pytest_generate_tests(metafunc):
    if "board" in metafunc.fixturenames:
        count = metafunc.config.getoption("--boards")
        fresh = [(seed, (100, 1000)[seed % 2]) for seed in range(10_000, 10_000 + 2 * count)]
        plain = [(board, {}) for board in BLAMED + fresh]
        spilling = [(board, {"spills": True}) for board in BLAMED + fresh if board[0] % 2 == 0]
        emptying = [(board, {"empties": True}) for board in BLAMED + fresh if board[0] % 2]
        draining = [(board, {"drains": True}) for board in BLAMED + fresh if board[0] % 3]
        metafunc.parametrize(("board", "with_what"), plain + spilling + emptying + draining, ids=str)


def shown(system, came, truth):
    """(the lines of a board, the probes of its model)."""
    lines, probes = {}, '[capture]\ntolerance = "1 ppm"\n'
    for place, name in enumerate(came):
        lines[f"S{place}"] = toggles(came[name])
        probes += f'[probe.S{place}]\nshows = "source.{name}"\nedge = "both"\n'
    for kind, bodies in (("isr", system.isrs), ("step", system.steps)):
        for place, body in enumerate(bodies):
            lines[f"{kind}{place}"] = (busy if kind == "isr" else steps)(truth, body.name)
            probes += f'[probe.{kind}{place}]\nshows = "{body.thing}"\n'
    return lines, probes


def can_be_shown(system, came, step):
    """Whether all of it is there for longer than a few samples, and the stand-in can play it."""
    asks = [event for unit in system.units for event in unit.asked_at]
    if any(event.kind != "source" for event in asks) or any(isr.on[0].kind == "unit" for isr in system.isrs):
        return False
    bodies = [isr.cost.least for isr in system.isrs] + [each.cost_first.least for each in system.steps]
    apart = [b - a for times in came.values() for a, b in pairwise(times)]
    return min([system.loop.overhead.least, *bodies, *apart]) >= SHORTEST * step


def test_a_right_model_of_buffers_is_not_blamed(board, with_what):
    seed, step = board
    text = Stocked(seed).small(**with_what)
    system = read_model(text, "board.toml")
    _, seen, index = play_whole(system, RunOptions("drawn", "drawn", "gap", seed=seed), UNTIL)
    sources = seen.kind == at.SOURCE
    came = {
        name: [int(time) for time in seen.time[sources & (seen.index == place)]]
        for place, name in enumerate(index.sources)
    }
    if not can_be_shown(system, came, step):
        return
    truth = Machine(plan(system, came), seed, "drawn").run(UNTIL)
    lines, probes = shown(system, came, truth)
    if with_what.get("spills") and seed % 4 < 3:  # the overrun lines of the board
        for place, buffer in enumerate(system.buffers):
            lost = sorted({time for who, time in truth.lost if who == buffer.name})
            alone = all(isr.name != buffer.name for isr in system.isrs)  # the losses of both stand under one name
            if alone and min((b - a for a, b in pairwise(lost)), default=UNTIL) >= SHORTEST * step:
                lines[f"L{place}"] = toggles(lost)
                probes += f'[probe.L{place}]\nshows = "{buffer.lost}"\nedge = "both"\n'
    analyser = Analyser(step, 0, BEGIN, UNTIL - 2 * BEGIN, NS)
    recording = Recording({name: analyser.sampled(levels) for name, levels in lines.items()}, analyser, truth)
    result = check(read_model(f"{text}\n{probes}", "board.toml"), read_vcd([to_vcd(recording).encode()], "board.vcd"))
    if any(step.duration.most is None for step in result.bounds.steps.values()):
        return  # a run without an end is none of the stand-in's
    assert [(each.about, each.code, each.text) for each in result.findings] == []
    for name, found in result.buffers.items():
        lost = [time for who, time in truth.lost if who == name and BEGIN <= time <= UNTIL - BEGIN + step]
        deepest = max((level for _, level in truth.levels.get(name, ())), default=0)
        assert (found.lost <= len(lost), found.level <= deepest) == (True, True), (name, found, len(lost), deepest)
