"""Random models, and a run of one on the stand-in machine. Every feature of the language extends this file."""

import random
from fractions import Fraction

from hypothesis import strategies as st

from tachys.demo.machine import Hold, Machine, Plan, Routine, Work
from tachys.model.loading import read_model

NS = 1000


def ns(count):
    return f'"{count} ns"'


@st.composite
def guards(draw, cost, levels):
    if not cost or not draw(st.booleans()):
        return ""
    at = draw(st.integers(0, cost))
    length = draw(st.one_of(st.just("all"), st.integers(0, cost - at)))
    shown = '"all"' if length == "all" else ns(length)
    at = 0 if length == "all" else at
    return f"guard = {{ level = {draw(st.integers(0, levels - 1))}, for = {shown}, at = {ns(at)} }}\n"


@st.composite
def costs(draw, most):
    high = draw(st.integers(0, most))
    return draw(st.integers(0, high)), high


@st.composite
def core(draw, levels):
    entry, leave, chain, wake = (draw(st.sampled_from([0, 1, 3, 8])) for _ in range(4))
    return (
        f'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = {levels}\nentry = {ns(entry)}\nexit = {ns(leave)}\n'
        f"chain = {ns(chain)}\nwake = {ns(wake)}\nnesting = {draw(st.sampled_from(['true', 'true', 'false']))}\n"
        f"late_arrival = {draw(st.sampled_from(['false', 'true']))}\n"
    )


@st.composite
def models(draw):
    """The text of a small model: up to five lines, up to three steps, at loads around and beyond full."""
    levels = draw(st.integers(1, 3))
    text = draw(core(levels))
    lines = draw(st.integers(1, 5))
    for i in range(lines):
        least, most = draw(costs(12))
        if draw(st.booleans()):
            text += f"[source.s{i}]\nevery = {ns(draw(st.integers(8, 120)))}\njitter = {ns(draw(st.integers(0, 30)))}\n"
        else:
            text += f"[source.s{i}]\ngap = {ns(draw(st.integers(8, 120)))}\n"
        text += (
            f'[isr.r{i}]\non = "source.s{i}"\nlevel = {draw(st.integers(0, levels - 1))}\n'
            f"order = {draw(st.integers(0, 1))}\ncost = [{ns(least)}, {ns(most)}]\n"
            f'pending = {draw(st.integers(1, 3))}\nserves = "{draw(st.sampled_from(["one", "one", "all"]))}"\n'
            f'sets = ["f{draw(st.integers(0, 1))}"]\n{draw(guards(most, levels))}'
        )
    if draw(st.booleans()):
        text += f"[loop]\noverhead = {ns(draw(st.integers(1, 6)))}\n"
        for i in range(draw(st.integers(0, 3))):
            least, most = draw(costs(20))
            text += f"[step.p{i}]\ncost = [{ns(least)}, {ns(most)}]\n"
            text += draw(st.sampled_from(["", f'polls = "f{i % 2}"\n', f"every = {ns(40 + 30 * i)}\n"]))
            text += draw(guards(most, levels))
            text += draw(st.sampled_from(["", "", "sleep = true\n", 'sleep = { unless = "f0" }\n']))
    return text


def arrivals(source, until, dice):
    """Instants of a source that its description allows: dense or loose, in phase or not, jitter at its ends."""
    if source.period is None:
        now, times = dice.choice([0, dice.randrange(source.gap)]), []
        while now <= until:
            times.append(now)
            now += source.gap + dice.choice([0, 0, 0, dice.randrange(source.gap)])
        return times
    offset = source.offset if source.offset is not None else dice.choice([0, dice.randrange(int(source.period))])
    releases = (int(Fraction(offset) + k * source.period) for k in range(int(until / source.period) + 1))
    late = (dice.choice([0, source.jitter, dice.randint(0, source.jitter)]) for _ in iter(int, 1))
    return sorted(release + wait for release, wait in zip(releases, late, strict=False))


def holds(guards):
    return tuple(Hold(g.urgency, g.at.most, g.length and g.length.most) for g in guards)


def plan(system, until, dice):
    """The stand-in's plan for a system without tolerances."""
    core = system.core
    routines = tuple(
        Routine(
            isr.name, isr.urgency, arrivals(system.source(isr.on[0][7:]), until, dice), (isr.cost.least, isr.cost.most),
            holds(isr.guards), isr.pending, isr.serves_all, isr.sets,
        )
        for isr in system.isrs
    )  # fmt: skip
    steps = tuple(
        Work(
            step.name, (step.cost.least, step.cost.most), step.polls, step.every and step.every.least, step.rearm,
            holds(step.guards), step.sleeps, step.unless,
        )
        for step in (system.loop.steps if system.loop else ())
    )  # fmt: skip
    return Plan(
        routines, steps, system.loop.overhead.most if system.loop else 0, core.nesting, core.entry.most,
        core.exit.most, core.chain.most, core.wake.most, core.late_arrival,
    )  # fmt: skip


def play(text, seed, until=4000 * NS):
    """(system, truth) of one run of a model text."""
    system = read_model(text, "model.toml")
    dice = random.Random(seed)
    machine = Machine(plan(system, until, dice), seed, dice.choice(["most", "least", "drawn"]))
    return system, machine.run(until)
