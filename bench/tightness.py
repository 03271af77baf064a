"""How near the worst that is played comes to each bound, and the least to each least: by kind, and the ten furthest apart.

    python bench/tightness.py --systems 50 --plays 300 --seed 1

Systems by chance, the example and the small projects are each played many times, with phases, costs, jitter and gaps drawn
so that things meet. What is not reached may still be reachable: a ratio is a lower limit of how good a bound is.
"""

from __future__ import annotations

import argparse
import random
import sys
from collections.abc import Iterator
from pathlib import Path

sys.path[:0] = [str(Path(__file__).parent.parent / "tests")]

import numpy as np

from attack import Attack, toml
from soak import length_of, ways
from tachys.demo.project import examples, model_text
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.model.system import System
from tachys.simulation.engine import Run
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds


def systems(count: int, seed: int) -> Iterator[tuple[str, System]]:
    """The example, the small projects, and so many by chance."""
    yield "example", read_model(model_text(), "example")
    for example in examples():
        yield example.name, read_model(example.text("model.toml"), example.name)
    for number in range(seed, seed + count):
        try:
            yield f"seed {number}", read_model(toml(Attack(number).model()), f"seed {number}")
        except InputError:
            continue


def ratios(system: System, plays: int, seed: int) -> Iterator[tuple[str, str, float]]:
    """(kind, figure, how near) of every bound that is one: the most seen of it, and it of the least seen."""
    paper, dice = bounds(system), random.Random(seed)
    slowest = max([0, *(int(each.every.nominal) for each in system.steps if each.every),
                   *(int(each.period or each.mean or each.gap) for each in system.sources)])  # fmt: skip
    most: dict[str, int] = {}
    least: dict[str, int] = {}
    for _ in range(plays):
        run = Run(system, ways(dice, system), max(length_of(system, dice), 3 * slowest), record=False)
        for _ in run.slices():
            pass
        for name, stats in counted(run.memory, run.index).items():
            if stats.count:
                most[name] = max(most.get(name, 0), stats.most)
                least[name] = min(least.get(name, stats.least), stats.least)
    for measure, thing, figure in paper.figures():
        name = measure.name(thing)
        kind = name.replace(f".{thing}", "") if f".{thing}" in name else name
        if name in most and figure.most:
            yield kind, name, most[name] / figure.most
        if least.get(name):
            yield f"{kind}, least", name, figure.least / least[name]


def main(count: int, plays: int, seed: int) -> None:
    """Measure and print."""
    found: dict[str, list[tuple[float, str, str]]] = {}
    for name, system in systems(count, seed):
        for kind, figure, near in ratios(system, plays, seed):
            found.setdefault(kind, []).append((near, figure, name))
    print(f"{'kind':24}{'figures':>8}{'10 %':>8}{'25 %':>8}{'median':>8}")
    for kind, each in sorted(found.items()):
        tenth, quarter, middle = np.percentile([near for near, _, _ in each], [10, 25, 50])
        print(f"{kind:24}{len(each):8}{tenth:8.2f}{quarter:8.2f}{middle:8.2f}")
    print("\nFurthest apart:")
    worst = sorted(each for kind, some in found.items() if not kind.endswith("least") for each in some)
    for near, figure, name in worst[:10]:
        print(f"{near:8.3f}  {name}: {figure}")


if __name__ == "__main__":
    given = argparse.ArgumentParser()
    given.add_argument("--systems", type=int, default=50)
    given.add_argument("--plays", type=int, default=300)
    given.add_argument("--seed", type=int, default=1)
    asked = given.parse_args()
    main(asked.systems, asked.plays, asked.seed)
