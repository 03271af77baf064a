"""One or two figures moved over a range: what the model comes to at each point, and where it breaks."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from itertools import pairwise
from math import prod
from pathlib import Path
from typing import Any, overload

from msgspec import Struct
from msgspec.structs import replace

from tachys import __version__
from tachys.errors import InputError
from tachys.spreading import EACH_CORE, Workers, with_progress
from tachys.trying.amounts import Amount, Range, halved
from tachys.trying.keeping import Kept
from tachys.trying.points import Model, Outcome, Tried, work_out
from tachys.trying.why import why

_FINE = Fraction(1, 1000)
MOST_POINTS = 1_000_000


class Break(Struct, frozen=True):
    """Where a sweep over one key changes: ``holds`` is the last value found that holds, ``falls`` the next one.

    ``needs`` fall there, the first of them for ``why``; ``rising``: values further on fall.
    """

    key: str
    holds: str
    falls: str
    needs: tuple[str, ...]
    why: str
    rising: bool


class Sweep(Struct, frozen=True):
    """Every point with its outcome, in order; fewer where it was stopped. ``breaks`` are of a sweep over one key.

    Neither points nor outcomes are held: each is made, or read, when it is asked for.
    """

    over: tuple[Range, ...]
    points: Points
    outcomes: Kept
    breaks: tuple[Break, ...] = ()

    def __repr__(self) -> str:
        keys = " and ".join(each.key for each in self.over)
        return f"<Sweep over {keys}: {len(self.outcomes)} of {len(self.points)} points>"

    @property
    def complete(self) -> bool:
        """Whether every point is there."""
        return len(self.outcomes) == len(self.points)

    @property
    def always_lost(self) -> frozenset[str]:
        """What may be lost at every point."""
        return self.outcomes.always_lost or frozenset()

    @property
    def needs(self) -> tuple[str, ...]:
        """The names of all needs that any point has."""
        return tuple(self.outcomes.needs)


class Points(Sequence[tuple[str, ...]]):
    """Every combination of values of some keys, the last key fastest."""

    def __init__(self, over: Sequence[Range]) -> None:
        self._over = tuple(over)

    def __len__(self) -> int:
        return prod(len(each.values) for each in self._over)

    @overload
    def __getitem__(self, place: int) -> tuple[str, ...]: ...
    @overload
    def __getitem__(self, place: slice) -> list[tuple[str, ...]]: ...
    def __getitem__(self, place: int | slice) -> tuple[str, ...] | list[tuple[str, ...]]:
        if isinstance(place, slice):
            return [self[number] for number in range(*place.indices(len(self)))]
        if not 0 <= place < len(self):
            raise IndexError(place)
        found = []
        for each in reversed(self._over):
            place, digit = divmod(place, len(each.values))
            found.append(each.values[digit])
        return tuple(found[::-1])


def settings_of(over: Sequence[Range], point: Sequence[str]) -> tuple[str, ...]:
    """A point as settings."""
    return tuple(f"{each.key}={value}" for each, value in zip(over, point, strict=True))


def sweep(
    model: Model, over: Sequence[Range], *, workers: Workers = EACH_CORE, kept: Path | None = None,
    told: Callable[[float], None] | None = None,
) -> Sweep:  # fmt: skip
    """Work out every point. Interrupted by the keyboard, it holds what was done until then.

    ``kept``: a file beside the result in which points are kept as they come, and from which it goes on.

    Raises:
        InputError: a key is none of the model, at any value; or what is kept belongs to another sweep.
    """
    points = Points(over)
    _check_keys(model, over)
    outcomes = Kept(kept, _digest(model, over))
    left = (settings_of(over, points[place]) for place in range(len(outcomes), len(points)))
    try:
        for outcome in with_progress(work_out(model, left, workers), len(points) - len(outcomes), told):
            outcomes.add(outcome)
    except KeyboardInterrupt:
        return Sweep(tuple(over), points, outcomes)
    return Sweep(tuple(over), points, outcomes, tuple(_breaks(model, over, outcomes)))


def _check_keys(model: Model, over: Sequence[Range]) -> None:
    """What is wrong with the model, or with a key at any value, is said once, not at each point."""
    tried, settings = Tried(model), settings_of(over, [each.values[0] for each in over])
    tried.system()
    tried.merged(settings)
    try:
        tried.system(settings)
    except InputError as error:
        unknown = [problem for problem in error.problems if problem.wrong.startswith("unknown key")]
        if unknown:
            raise InputError(unknown) from None


def _digest(model: Model, over: Sequence[Range]) -> str:
    """What a kept sweep is of: it is gone on with only if nothing of it has changed."""
    told = [__version__, model.to_text(), [[each.key, each.values] for each in over]]
    return hashlib.sha256(json.dumps(told).encode()).hexdigest()


# --- where it breaks ----------------------------------------------------------------------------------------


def _breaks(model: Model, over: Sequence[Range], outcomes: Sequence[Outcome]) -> Iterator[Break]:
    """Between each two neighbours of which one holds and the other does not."""
    if len(over) != 1:
        return
    tried = Tried(replace(model, play=None))  # whether it holds is a matter of paper
    for (first, second), values in zip(pairwise(outcomes), pairwise(over[0].values), strict=False):
        if first.wrong or second.wrong or first.holds == second.holds:
            continue
        yield _break(tried, over[0], values if first.holds else values[::-1], rising=first.holds)


def _break(tried: Tried, over: Range, values: tuple[str, str], *, rising: bool) -> Break:
    holds, falls = values
    try:
        inside, beyond = Amount.read(holds), Amount.read(falls)
        beyond = beyond.in_unit_of(inside)
    except ValueError:
        return _told(tried, over, holds, falls, rising=rising)
    up = beyond.number > inside.number
    inside, beyond = halved(inside, beyond, lambda amount: tried.at((f"{over.key}={amount}",)).holds, _FINE,
                            lambda middle: middle.rounded(up=up))  # fmt: skip
    return _told(tried, over, str(inside), str(beyond), rising=rising)


def _told(tried: Tried, over: Range, holds: str, falls: str, *, rising: bool) -> Break:
    settings = (f"{over.key}={falls}",)
    outcome = tried.at(settings)
    words = ""
    if outcome.falls:
        words = why(tried.bounds(settings), outcome.falls[0])
    return Break(over.key, holds, falls, outcome.falls, words or outcome.wrong, rising)


# --- as data ------------------------------------------------------------------------------------------------


def columns_of(found: Sweep) -> list[str]:
    """The columns of a sweep as a table: the keys, what it comes to, and each need."""
    needs = [f"{name} {what}" for name in found.needs for what in ("limit", "bound", "verdict", "played")]
    return [*(each.key for each in found.over), "holds", "falls", "load", "lost", "wrong", *needs]


def types_of(found: Sweep) -> list[type]:
    """What each of the columns holds."""
    return [*(str for _ in found.over), bool, str, float, str, str, *[float, float, str, float] * len(found.needs)]


def rows_of(found: Sweep) -> Iterator[list[Any]]:
    """A row a point that was done: times in seconds, shares of one; None where there is nothing."""
    names = found.needs
    for point, outcome in zip(found.points, found.outcomes, strict=False):
        row: list[Any] = [*point, outcome.holds, " ".join(outcome.falls), outcome.load, " ".join(outcome.lost),
                          outcome.wrong or None]  # fmt: skip
        for name in names:
            need = outcome.needs.get(name)
            row += [None] * 4 if need is None else [need.limit, need.bound, need.verdict, need.played]
        yield row


def sweep_data(found: Sweep) -> dict[str, Any]:
    """As JSON."""
    return {**_head_data(found), "points": list(_points_data(found)), **_breaks_data(found)}


def sweep_pieces(found: Sweep) -> Iterator[str]:
    """The text of this JSON piece by piece, a line a point."""
    yield json.dumps(_head_data(found))[:-1] + ', "points": ['
    for number, point in enumerate(_points_data(found)):
        yield f"{',' if number else ''}\n{json.dumps(point)}"
    yield "\n], " + json.dumps(_breaks_data(found))[1:] + "\n"


def _head_data(found: Sweep) -> dict[str, Any]:
    over = [{"key": each.key, "values": list(each.values)} for each in found.over]
    return {"format": "tachys.sweep/1", "over": over, "complete": found.complete}


def _points_data(found: Sweep) -> Iterator[dict[str, Any]]:
    for point, outcome in zip(found.points, found.outcomes, strict=False):
        needs = {name: {"limit": need.limit, "bound": need.bound, "verdict": need.verdict, "played": need.played}
                 for name, need in outcome.needs.items()}  # fmt: skip
        yield {"at": list(point), "holds": outcome.holds, "wrong": outcome.wrong or None, "load": outcome.load,
               "lost": list(outcome.lost), "needs": needs}  # fmt: skip


def _breaks_data(found: Sweep) -> dict[str, Any]:
    return {"breaks": [
        {"key": each.key, "holds": each.holds, "falls": each.falls, "needs": list(each.needs), "why": each.why}
        for each in found.breaks
    ]}  # fmt: skip
