"""Playing random models and holding what was seen against the bounds."""

import random

from strategies import NS
from tachys.needs.kinds import WithinNeed
from tachys.simulation.engine import Run
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted, losses

LONG = 4000 * NS


def ways(seed):
    """One of many ways to play, by number."""
    dice = random.Random(seed)
    return RunOptions(
        costs=dice.choice(["most", "most", "least", "drawn"]),
        phases=dice.choice(["together", "drawn"]),
        arrivals=dice.choice(["gap", "gap", "mean"]),
        jitter=dice.choice(["none", "drawn", "first-late"]),
        seed=seed,
    )


def played(system, how, end=LONG, **more):
    run = Run(system, how, end, record=False, **more)
    list(run.slices())
    return run


def figures(bounds):
    """Every figure that a run measures, by the name the statistics give it."""
    found = {"pass": bounds.loop_pass}
    for name, isr in bounds.isrs.items():
        found |= {f"isr.{name}.{what}": getattr(isr, what) for what in ("latency", "response", "span")}
    found |= {f"unit.{name}.time": unit.time for name, unit in bounds.units.items()}
    for name, step in bounds.steps.items():
        found |= {f"step.{name}.{what}": getattr(step, what) for what in ("interval", "duration", "late")}
    found |= {f"flag.{name}": flag.reaction for name, flag in bounds.flags.items()}
    return {name: figure for name, figure in found.items() if figure is not None}


def beaten(bounds, run):
    """Everything that was seen outside its bounds: this list must be empty."""
    seen, found = counted(run.memory, run.index), []
    for name, figure in figures(bounds).items():
        if name not in seen or not seen[name].count:
            continue
        least, most = seen[name].least, seen[name].most
        if least < figure.least or (figure.most is not None and most > figure.most):
            found.append((name, (figure.least, figure.most), (least, most)))
    may_lose = {f"isr.{name}": isr.lost for name, isr in bounds.isrs.items()}
    may_lose |= {f"unit.{name}": unit.lost for name, unit in bounds.units.items()}
    may_lose |= {f"flag.{name}": flag.overwritten for name, flag in bounds.flags.items()}
    lost = losses(run.memory, run.index)
    return found + [(name, "lost", lost[name]) for name, may in may_lose.items() if lost[name] and not may]


def needs_beaten(bounds, seen):
    """Every need that was seen beyond its bound, or broken although it is proved: this list must be empty."""
    found = []
    for name, need in seen.needs.items():
        paper = bounds.needs[name]
        if paper.proved and need.misses:
            found.append((name, "proved and missed", need.first[:2]))
        # a load of the long run can be more in a run that ends somewhere
        ends = paper.need.measures == "share" and paper.need.window is None
        if paper.bound is not None and need.value is not None and need.value > paper.bound and not ends:
            found.append((name, paper.bound, need.value))
        is_way = isinstance(paper.need, WithinNeed) and paper.figure is not None and paper.figure.parts
        if is_way and need.seen and paper.figure.least > need.seen.least:
            found.append((name, "least", paper.figure.least, need.seen.least))
    return found
