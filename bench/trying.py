"""How many points a second a sweep of the example works out, and what the way to a worker costs.

Run by ``make bench``. The limit: 200 points of bounds in under 3 s on two cores.
"""

from __future__ import annotations

import time

from tachys.demo.project import model_text
from tachys.spreading import Workers, spread
from tachys.trying.amounts import read_range
from tachys.trying.headroom import headroom_of
from tachys.trying.points import Model
from tachys.trying.sweeping import sweep

LIMIT = 3.0
ONE, TWO, CLUSTER = Workers(1), Workers(2), Workers(cluster="local:2")
WORDS = {ONE: "one process", TWO: "two processes", CLUSTER: "a cluster of two, with its start"}


def main() -> None:
    """Measure and print."""
    text = model_text()
    for words, play, count in (("bounds", None, 200), ("bounds and 1 s played", 10**12, 24)):
        over = [read_range(f"source.wheel.gap=150 us..400 us/{count}")]
        model = Model(text, "row_unit.toml", play=play)
        sweep(model, over[:1], workers=ONE) if play else None  # compiles the engine
        for who in (ONE, TWO, CLUSTER):
            begun = time.perf_counter()
            sweep(model, over, workers=who)
            took = time.perf_counter() - begun
            limit = f" (limit {LIMIT:g} s)" if play is None and who == TWO else ""
            print(f"sweep, {words}, {WORDS[who]}: {count} points in {took:.2f} s{limit}, {count / took:.0f} a second")
    for who in (ONE, TWO):
        begun = time.perf_counter()
        found = headroom_of(Model(text, "row_unit.toml"), workers=who)
        print(f"headroom of {len(found.rooms)} figures, {WORDS[who]}: {time.perf_counter() - begun:.1f} s")
    for who in (TWO, CLUSTER):
        results = spread(max, "", ["x"] * 2000, who)  # the larger of two texts: no work, only the way
        print(f"an empty piece of work to {WORDS[who]}: {1000 * took_by_each(results):.1f} ms")


def took_by_each(results) -> float:
    """s a piece, without the start."""
    next(results)
    begun = time.perf_counter()
    count = sum(1 for _ in results)
    return (time.perf_counter() - begun) / count


if __name__ == "__main__":
    main()
