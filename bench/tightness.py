"""How near the worst that is played comes to each bound, and the least to each least: by kind, and the ten furthest apart.

    python bench/tightness.py --systems 50 --plays 2000 --keep tightness.json

Systems as one would build them, the example and the small projects are each played many times. A third of the plays are
by chance; the others change one that came furthest with some figure a little, and go on from what comes further. What
is not reached may still be reachable: a ratio is a lower limit of how good a bound is. With ``--keep`` what was found is
kept, and the next call goes on from there.
"""

from __future__ import annotations

import argparse
import json
import random
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from msgspec.structs import asdict, replace

sys.path[:0] = [str(Path(__file__).parent), str(Path(__file__).parent.parent / "tests")]

import numpy as np
import systems as made

from soak import length_of, ways
from tachys.demo.project import examples, model_text
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.model.system import System
from tachys.simulation.engine import Run
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds

Found = dict[str, dict[str, Any]]  # by side and figure: the value, and how it was played
LONGEST = 200 * 10**9  # ps of a play


def systems(count: int, seed: int) -> Iterator[tuple[str, System]]:
    """The example, the small projects, and so many by chance."""
    yield "example", read_model(model_text(), "example")
    for example in examples():
        yield example.name, read_model(example.text("model.toml"), example.name)
    for number in range(seed, seed + count):
        try:
            yield f"system {number}", read_model(made.text(number), f"system {number}")
        except InputError as error:
            print(f"system {number} is refused: {error}", file=sys.stderr)


def played(system: System, how: RunOptions, length: int) -> Iterator[tuple[str, str, int]]:
    """(side, figure, value) of all that was seen."""
    run = Run(system, how, length, record=False)
    for _ in run.slices():
        pass
    for name, stats in counted(run.memory, run.index).items():
        if stats.count:
            yield "most", name, stats.most
            yield "least", name, stats.least


def changed(dice: random.Random, system: System, how: RunOptions) -> RunOptions:
    """Nearly the same play: one source begins elsewhere, or one choice is another."""
    free = [source for source in system.sources if source.offset is None]
    if free and dice.random() < 0.75:
        source = dice.choice(free)
        top = int(source.period or source.mean or source.gap)
        now = how.begin.get(source.name, 0)
        step = int(top * 10 ** -dice.uniform(0, 5)) + 1
        there = dice.choice([dice.randrange(top + 1), min(top, now + step), max(0, now - step)])
        return replace(how, begin={**how.begin, source.name: there})
    other = ways(dice, system)
    key = dice.choice(["costs", "phases", "arrivals", "jitter", "rates", "seed"])
    return replace(how, **{key: getattr(other, key)})


def search(system: System, plays: int, dice: random.Random, best: Found) -> None:
    """Play so often, and keep in ``best`` what came furthest."""
    slowest = max([0, *(int(each.every.nominal) for each in system.steps if each.every),
                   *(int(each.period or each.mean or each.gap) for each in system.sources)])  # fmt: skip
    for number in range(plays):
        side = best.get(dice.choice(["most", "least"]), {})
        if side and number % 3:
            kept = side[dice.choice(list(side))]
            how, length = changed(dice, system, RunOptions(**kept["how"])), kept["length"]
        else:
            how, length = ways(dice, system), max(2 * slowest, min(LONGEST, max(length_of(system, dice), 3 * slowest)))
        for where, name, value in played(system, how, length):
            known = best.setdefault(where, {}).get(name)
            if known is None or (value > known["value"] if where == "most" else value < known["value"]):
                best[where][name] = {"value": value, "how": asdict(how), "length": length}


def ratios(system: System, best: Found) -> Iterator[tuple[str, str, float]]:
    """(kind, figure, how near) of every bound that is one: the most seen of it, and it of the least seen."""
    for measure, thing, figure in bounds(system).figures():
        name = measure.name(thing)
        kind = name.replace(f".{thing}", "") if f".{thing}" in name else name
        most, least = (best.get(side, {}).get(name) for side in ("most", "least"))
        if most is not None and figure.most is None:
            yield f"{kind}, unbounded", name, 0.0
        elif most is not None and figure.most:
            yield kind, name, most["value"] / figure.most
        if least is not None and least["value"]:
            yield f"{kind}, least", name, figure.least / least["value"]


def main(count: int, plays: int, seed: int, keep: Path | None) -> None:
    """Measure and print."""
    kept: dict[str, Any] = json.loads(keep.read_text()) if keep and keep.exists() else {}
    found: dict[str, list[tuple[float, str, str]]] = {}
    for name, system in systems(count, seed):
        known = kept.setdefault(name, {"plays": 0, "best": {}})
        if known["plays"] < plays:
            search(system, plays - known["plays"], random.Random(f"{seed} {name} {known['plays']}"), known["best"])
            known["plays"] = plays
            if keep:
                keep.write_text(json.dumps(kept))
        for kind, figure, near in ratios(system, known["best"]):
            found.setdefault(kind, []).append((near, figure, name))
    print(f"{'kind':28}{'figures':>8}{'10 %':>8}{'25 %':>8}{'median':>8}")
    for kind, each in sorted(found.items()):
        tenth, quarter, middle = np.percentile([near for near, _, _ in each], [10, 25, 50])
        print(f"{kind:28}{len(each):8}{tenth:8.2f}{quarter:8.2f}{middle:8.2f}")
    print("\nFurthest apart, of those with a bound:")
    worst = sorted(each for kind, some in found.items() if not kind.endswith(("least", "unbounded")) for each in some)
    for near, figure, name in worst[:10]:
        print(f"{near:8.3f}  {name}: {figure}")


if __name__ == "__main__":
    given = argparse.ArgumentParser()
    given.add_argument("--systems", type=int, default=50)
    given.add_argument("--plays", type=int, default=300)
    given.add_argument("--seed", type=int, default=1)
    given.add_argument("--keep", type=Path)
    asked = given.parse_args()
    main(asked.systems, asked.plays, asked.seed, asked.keep)
