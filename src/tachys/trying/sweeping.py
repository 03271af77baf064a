"""One or two figures moved over a range: what the model comes to at each point, and where it breaks."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import product
from pathlib import Path
from typing import Any

from tachys import __version__
from tachys.errors import InputError, input_error
from tachys.trying.amounts import Amount, Range, halved
from tachys.trying.points import Model, Outcome, Tried, outcome_data, outcome_of, work_out
from tachys.trying.why import why

_FINE = Fraction(1, 1000)
MOST_POINTS = 1_000_000


@dataclass(frozen=True, slots=True)
class Break:
    """Where a sweep over one key changes: ``holds`` is the last value found that holds, ``falls`` the next one.

    ``needs`` fall there, the first of them for ``why``; ``rising``: values further on fall.
    """

    key: str
    holds: str
    falls: str
    needs: tuple[str, ...]
    why: str
    rising: bool


@dataclass(frozen=True, slots=True)
class Sweep:
    """Every point with its outcome, in order; fewer where it was stopped. ``breaks`` are of a sweep over one key."""

    over: tuple[Range, ...]
    points: tuple[tuple[str, ...], ...]
    outcomes: tuple[Outcome, ...]
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
        sets = [frozenset(outcome.lost) for outcome in self.outcomes if not outcome.wrong]
        return frozenset.intersection(*sets) if sets else frozenset()

    @property
    def needs(self) -> tuple[str, ...]:
        """The names of all needs that any point has."""
        return tuple(dict.fromkeys(name for outcome in self.outcomes for name in outcome.needs))


def points_of(over: Sequence[Range]) -> tuple[tuple[str, ...], ...]:
    """Every combination of values, the last key fastest."""
    return tuple(product(*(each.values for each in over)))


def settings_of(over: Sequence[Range], point: Sequence[str]) -> tuple[str, ...]:
    """A point as settings."""
    return tuple(f"{each.key}={value}" for each, value in zip(over, point, strict=True))


def sweep(
    model: Model, over: Sequence[Range], *, workers: int | None = None, kept: Path | None = None,
    told: Callable[[float], None] | None = None,
) -> Sweep:  # fmt: skip
    """Work out every point. Interrupted by the keyboard, it holds what was done until then.

    ``kept``: a file beside the result in which points are kept as they come, and from which it goes on.

    Raises:
        InputError: a key is none of the model, at any value; or what is kept belongs to another sweep.
    """
    points = points_of(over)
    _check_keys(model, over)
    done = [] if kept is None else _read_kept(kept, model, points)
    outcomes = list(done)
    try:
        for outcome in _kept_as_they_come(model, over, points[len(done) :], kept, workers, told, bool(done)):
            outcomes.append(outcome)
    except KeyboardInterrupt:
        return Sweep(tuple(over), points, tuple(outcomes))
    return Sweep(tuple(over), points, tuple(outcomes), tuple(_breaks(model, over, points, outcomes)))


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


def _kept_as_they_come(
    model: Model, over: Sequence[Range], points: Sequence[tuple[str, ...]], kept: Path | None,
    workers: int | None, told: Callable[[float], None] | None, going_on: bool,
) -> Iterator[Outcome]:  # fmt: skip
    found = work_out(model, [settings_of(over, point) for point in points], workers, told)
    if kept is None:
        yield from found
        return
    try:
        with kept.open("a" if going_on else "w", encoding="utf-8") as stream:
            if not going_on:
                stream.write(json.dumps({"of": _digest(model, points)}) + "\n")
            for outcome in found:
                stream.write(json.dumps(outcome_data(outcome)) + "\n")
                stream.flush()
                yield outcome
    except OSError as error:
        raise input_error(str(kept), f"cannot be written: {error.strerror}", "choose another place") from None


def _digest(model: Model, points: Sequence[tuple[str, ...]]) -> str:
    """What a kept sweep is of: it is gone on with only if nothing of it has changed."""
    told = [__version__, model.text, model.variants, str(model.costs), model.settings, model.play, points]
    return hashlib.sha256(json.dumps(told).encode()).hexdigest()


def _read_kept(kept: Path, model: Model, points: Sequence[tuple[str, ...]]) -> list[Outcome]:
    """The outcomes that an earlier sweep has left, as far as whole lines go; none where it was of something else."""
    if not kept.is_file():
        return []
    found: list[Outcome] = []
    with kept.open(encoding="utf-8", errors="replace") as stream:
        try:
            head = json.loads(stream.readline())
        except ValueError:
            return []
        if not isinstance(head, dict) or head.get("of") != _digest(model, points):
            return []
        lines = stream.read().split("\n")[:-1]
    for line in lines[: len(points)]:
        try:
            found.append(outcome_of(json.loads(line)))
        except ValueError:
            break
    with kept.open("w", encoding="utf-8") as stream:
        stream.write(json.dumps(head) + "\n")
        stream.writelines(json.dumps(outcome_data(outcome)) + "\n" for outcome in found)
    return found


# --- where it breaks ----------------------------------------------------------------------------------------


def _breaks(
    model: Model, over: Sequence[Range], points: Sequence[tuple[str, ...]], outcomes: Sequence[Outcome]
) -> Iterator[Break]:
    """Between each two neighbours of which one holds and the other does not."""
    if len(over) != 1:
        return
    tried = Tried(replace(model, play=None))  # whether it holds is a matter of paper
    for place in range(len(outcomes) - 1):
        first, second = outcomes[place], outcomes[place + 1]
        if first.wrong or second.wrong or first.holds == second.holds:
            continue
        values = points[place][0], points[place + 1][0]
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


def rows_of(found: Sweep) -> Iterator[list[Any]]:
    """A row a point that was done: times in seconds, shares of one; None where there is nothing."""
    for point, outcome in zip(found.points, found.outcomes, strict=False):
        row: list[Any] = [*point, outcome.holds, " ".join(outcome.falls), outcome.load, " ".join(outcome.lost),
                          outcome.wrong or None]  # fmt: skip
        for name in found.needs:
            need = outcome.needs.get(name)
            row += [None] * 4 if need is None else [need.limit, need.bound, need.verdict, need.played]
        yield row


def sweep_data(found: Sweep) -> dict[str, Any]:
    """As JSON."""
    return {
        "format": "tachys.sweep/1",
        "over": [{"key": each.key, "values": list(each.values)} for each in found.over],
        "complete": found.complete,
        "points": [
            {"at": list(point), "holds": outcome.holds, "wrong": outcome.wrong or None, "load": outcome.load,
             "lost": list(outcome.lost),
             "needs": {name: {"limit": need.limit, "bound": need.bound, "verdict": need.verdict, "played": need.played}
                       for name, need in outcome.needs.items()}}
            for point, outcome in zip(found.points, found.outcomes, strict=False)
        ],
        "breaks": [
            {"key": each.key, "holds": each.holds, "falls": each.falls, "needs": list(each.needs), "why": each.why}
            for each in found.breaks
        ],
    }  # fmt: skip
