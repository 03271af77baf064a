"""Many runs of one model, played by processes here or by a cluster, and added up in their order as they come."""

from __future__ import annotations

import json
from collections.abc import Callable

from msgspec.structs import asdict, replace

from tachys.simulation.engine import work_of
from tachys.simulation.kernel import play
from tachys.simulation.options import RunOptions
from tachys.simulation.result import Simulated
from tachys.simulation.running import RunPart, folded, play_part, together
from tachys.spreading import Workers, spread, with_progress
from tachys.trying.points import Model, tried_of
from tachys.worstcase.bounds import Bounds

_PARTS = 40  # the least of them, where there are so many runs
_MOST = 100  # runs that are added up where they are played


def play_all(
    model: Model, paper: Bounds, ways: RunOptions, end: int, runs: int, workers: Workers,
    told: Callable[[float], object] | None = None,
) -> Simulated:  # fmt: skip
    """Play a model for ``end`` ps, ``runs`` times with seeds that follow each other; ``paper`` are its bounds.

    The result is that of one process. Interrupted by the keyboard, it is of what was played until then.

    Raises:
        InputError: as of playing, and of workers.
    """
    each = max(1, min(_MOST, runs // _PARTS))
    pieces = [(first, min(each, runs - first)) for first in range(0, runs, each)]
    compiled = not play.is_short(runs * work_of(paper.system, end))
    shared = json.dumps([model.to_text(), end, asdict(ways), compiled])
    parts = with_progress(spread(play_some, shared, pieces, workers), len(pieces), told)
    return together(paper, parts, runs)


def play_some(shared: str, piece: tuple[int, int]) -> RunPart:
    """So many runs from a number on, added up: a job."""
    model, end, given, compiled = json.loads(shared)
    system, ways = tried_of(model).system(), RunOptions(**given)
    first, count = piece
    numbers = range(first, first + count)
    part = folded(
        play_part(system, replace(ways, seed=ways.seed + number), end, number, compiled=compiled) for number in numbers
    )
    assert part is not None
    return part
