"""Many captures of one board: each is checked where there is room for it, and what is large stays there."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from tachys.capture.reading import Reading
from tachys.checking.checking import check
from tachys.checking.correct.clocking import by_own_clock
from tachys.checking.probes.binding import called_as
from tachys.checking.result import CheckResult
from tachys.errors import InputError, input_error
from tachys.spreading import Workers, spread, with_progress
from tachys.trying.points import Model, tried_of
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

_ENDS = 1 << 20  # bytes at both ends of a file by which it is known again
_KEPT_HERE = ("bounds", "measured", "again")


def check_all(
    model: Model, paper: Bounds, files: Sequence[str], reading: Reading, workers: Workers, *, strict: bool = False,
    own_clock: bool = False, told: Callable[[float], object] | None = None,
) -> list[CheckResult]:  # fmt: skip
    """The check of each capture against a model whose bounds are ``paper``, as outlines; the files' names are shared.

    A probe of a line that one capture lacks is passed over if another has it.

    Raises:
        InputError: what is wrong with any of the files, or no capture has a line that a probe names.
    """
    lines = {probe.signal: {probe.signal, *probe.also} for probe in paper.system.probes}
    elsewhere = frozenset(name for names in lines.values() for name in names)
    job = [model.to_text(), reading.to_data(), strict, own_clock]
    items = [(file, os.path.abspath(file) if workers.cluster else file, _known_by(file)) for file in files]
    while True:
        shared = json.dumps([*job, sorted(elsewhere)])
        found = list(with_progress(spread(check_file, shared, items, workers), len(items), told))
        problems = [problem for each in found for problem in each["problems"]]
        if problems:
            raise InputError(problems)
        results = [CheckResult(bounds=paper, measured=None, **each["result"]) for each in found]
        elsewhere = frozenset(name for result in results for name in result.capture.signals)
        if all(elsewhere & lines[signal] for each in found for signal in each["lacks"]):
            return results
        # some probe is of none of them: once more, so that it is told as each alone tells it


def check_file(shared: str, item: tuple[str, str, str]) -> dict[str, Any]:
    """What is wrong with a capture, or all that its check says but what is large, and the probes it lacks: a job."""
    model, reading, strict, own_clock, elsewhere = json.loads(shared)
    name, file, known_by = item
    try:
        if _known_by(file) != known_by:
            raise input_error(file, "is another file where it is worked on", "give workers the same files")
        capture = replace(Reading.from_data(reading).read(file, strict=strict), file=name)
        system = tried_of(model).system()
        result = check(system, capture, _paper(model), elsewhere=frozenset(elsewhere))
    except InputError as error:
        return {"problems": error.problems}
    outline = (by_own_clock(result) if own_clock else result).outline
    kept = {each: getattr(outline, each) for each in outline.__struct_fields__ if each not in _KEPT_HERE}
    bound, called = called_as(system, capture)
    lacks = [probe.signal for probe in bound.probes if probe.signal not in called.signals]
    return {"problems": (), "result": kept, "lacks": lacks}


@lru_cache(maxsize=1)
def _paper(model: str) -> Bounds:
    return bounds_of(tried_of(model).system())


def _known_by(file: str) -> str:
    """The size of a file and a digest of both its ends; empty where there is none, which is told when it is read."""
    path = Path(file)
    try:
        size = path.stat().st_size
        with path.open("rb") as stream:
            ends = stream.read(_ENDS)
            stream.seek(max(0, size - _ENDS))
            ends += stream.read(_ENDS)
    except OSError:
        return ""
    return f"{size} {hashlib.sha256(ends).hexdigest()}"
