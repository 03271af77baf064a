"""How the time for the bounds grows from 10 to 3000 routines at a fixed load, and what the example takes.

Run by ``make bench``.
"""

from __future__ import annotations

import random
import time

from tachys.demo.project import model_text
from tachys.model.loading import read_model
from tachys.worstcase.analysis import bounds

LOAD = 0.6
LEVELS = 16


def routines(count: int) -> str:
    """The text of a model of so many routines, half of them sporadic, that ask for ``LOAD`` of the core."""
    dice = random.Random(5)
    text = f'tachys = 1\n[core]\nclock = "48 MHz"\nlevels = {LEVELS}\nentry = "12 cycles"\nexit = "10 cycles"\n'
    for number in range(count):
        period = dice.choice([1, 2, 5, 10, 20, 50, 100]) * dice.uniform(0.8, 1.2) * count / 30
        way = "every" if number % 2 else "gap"
        text += f'[source.s{number}]\n{way} = "{period:.3f} ms"\n[isr.r{number}]\non = "source.s{number}"\n'
        text += f'level = {dice.randrange(LEVELS)}\ncost = "{period * LOAD / count * 1000:.3f} us"\n'
    return text


def main() -> None:
    """Measure and print."""
    example = read_model(model_text(), "row_unit.toml")
    bounds(example)
    begun = time.perf_counter()
    for _ in range(10):
        bounds(example)
    print(f"bounds of the example: {(time.perf_counter() - begun) * 100:.1f} ms")
    for count in (10, 30, 100, 300, 1000, 3000):
        text = routines(count)
        begun = time.perf_counter()
        system = read_model(text, "bench")
        read = time.perf_counter()
        found = bounds(system)
        done = time.perf_counter()
        unbounded = sum(isr.latency.most is None for isr in found.isrs.values())
        print(f"{count:5} routines: read {read - begun:6.3f} s, bounds {done - read:7.3f} s, {unbounded} unbounded")


if __name__ == "__main__":
    main()
