"""How many points a second a sweep of the example works out, on one core and on two, with and without playing.

Run by ``make bench``. The limit: 200 points of bounds in under 3 s on two cores.
"""

from __future__ import annotations

import time

from tachys.demo.project import model_text
from tachys.trying.amounts import read_range
from tachys.trying.headroom import headroom_of
from tachys.trying.points import Model
from tachys.trying.sweeping import sweep

LIMIT = 3.0


def main() -> None:
    """Measure and print."""
    text = model_text()
    for words, play, count in (("bounds", None, 200), ("bounds and 1 s played", 10**12, 24)):
        over = [read_range(f"source.wheel.gap=150 us..400 us/{count}")]
        sweep(Model(text, "row_unit.toml", play=play), over[:1], workers=1) if play else None  # compiles the engine
        for workers in (1, 2):
            begun = time.perf_counter()
            sweep(Model(text, "row_unit.toml", play=play), over, workers=workers)
            took = time.perf_counter() - begun
            limit = f" (limit {LIMIT:g} s)" if play is None and workers == 2 else ""
            print(
                f"sweep, {words}, {workers} cores: {count} points in {took:.2f} s{limit}, {count / took:.0f} a second"
            )
    for workers in (1, 2):
        begun = time.perf_counter()
        found = headroom_of(Model(text, "row_unit.toml"), workers=workers)
        print(f"headroom of {len(found.rooms)} figures, {workers} cores: {time.perf_counter() - begun:.1f} s")


if __name__ == "__main__":
    main()
