"""A model at many points: with other values of a few keys, worked out here or in several processes, in order."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import astuple, dataclass, field
from functools import partial
from multiprocessing import get_context
from multiprocessing.context import BaseContext
from typing import Any, TypeVar

from tachys.errors import InputError
from tachys.files import read_text
from tachys.model.costs import CostTable
from tachys.model.loading import LARGEST_MODEL, ModelText
from tachys.model.system import System
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

_CHUNK = 8
Item = TypeVar("Item")
Result = TypeVar("Result")


@dataclass(frozen=True, slots=True)
class NeedAt:
    """A need at a point: limit, bound (None: none) and what was played, as programs read them; the verdict."""

    limit: float | None
    bound: float | None
    proved: bool
    verdict: str
    played: float | None = None

    @property
    def room(self) -> float | None:
        """How much of the limit the bound leaves, as a share of it."""
        if self.bound is None or self.limit is None:
            return None
        return 1 - self.bound / self.limit if self.limit else float(self.bound <= 0)


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a model comes to at a point; ``wrong`` is why there is none."""

    needs: dict[str, NeedAt] = field(default_factory=dict)
    load: float | None = None
    lost: tuple[str, ...] = ()
    wrong: str = ""

    @property
    def falls(self) -> tuple[str, ...]:
        """The needs that are not proved."""
        return tuple(name for name, need in self.needs.items() if not need.proved)

    @property
    def holds(self) -> bool:
        """Whether the model is one, and every need is proved."""
        return not self.wrong and not self.falls


@dataclass(frozen=True, slots=True)
class Model:
    """What all points share: the text of a model, what is laid over it, and for how long (ps) to play, if at all.

    Costs lie over the variants, and settings over these.
    """

    text: str
    file: str
    variants: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    play: int | None = None
    costs: CostTable | None = None

    @classmethod
    def load(
        cls, path: str, variants: Sequence[str] = (), settings: Sequence[str] = (), play: int | None = None,
        costs: CostTable | None = None,
    ) -> Model:  # fmt: skip
        """Of a file."""
        return cls(read_text(path, "model", LARGEST_MODEL), path, tuple(variants), tuple(settings), play, costs)


class Tried:
    """A model whose points are worked out in this process."""

    def __init__(self, model: Model) -> None:
        self.model = model
        self.text = ModelText(model.text, model.file)

    def bounds(self, settings: Sequence[str] = ()) -> Bounds:
        """The bounds with more settings over it.

        Raises:
            InputError: the model is wrong with these.
        """
        return bounds_of(self.system(settings), ())

    def system(self, settings: Sequence[str] = ()) -> System:
        """The system with more settings over it.

        Raises:
            InputError: the model is wrong with these.
        """
        return self.text.system(self.model.variants, (*self.model.settings, *settings), self.model.costs)

    def merged(self, settings: Sequence[str] = ()) -> dict[str, Any]:
        """Its tables with more settings over it."""
        return self.text.merged(self.model.variants, (*self.model.settings, *settings), self.model.costs)

    def at(self, settings: Sequence[str] = ()) -> Outcome:
        """What it comes to with more settings over it."""
        try:
            return self.outcome(self.bounds(settings))
        except InputError as error:
            first = error.problems[0]
            more = f" (and {len(error.problems) - 1} more)" if len(error.problems) > 1 else ""
            return Outcome(wrong=f"{first.key}: {first.wrong}{more}" if first.key else f"{first.wrong}{more}")

    def outcome(self, paper: Bounds) -> Outcome:
        """What bounds come to, and what was played of them."""
        played: dict[str, float | None] = {}
        verdicts = {name: need.verdict for name, need in paper.needs.items()}
        if self.model.play is not None:
            from tachys.simulation.running import simulate

            seen = simulate(paper.system, self.model.play, bounds=paper)
            played = {name: need.need.given(need.value) for name, need in seen.needs.items()}
            verdicts = {name: need.verdict for name, need in seen.needs.items()}
        needs = {
            name: NeedAt(need.need.given(need.limit), need.need.given(need.bound), need.proved, str(verdicts[name]),
                         played.get(name))
            for name, need in paper.needs.items()
        }  # fmt: skip
        lost = tuple(thing for thing, may in paper.may_lose.items() if may)
        return Outcome(needs, float(paper.load.most), lost)


Task = Callable[[Tried, Item], Result]


def _context() -> BaseContext:
    """Workers begin as copies where they can: they have nothing to load then."""
    return get_context("fork" if sys.platform == "linux" else "spawn")


_here: list[Tried] = []


def _begin(model: Model) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the first process stops them
    _here[:] = [Tried(model)]


def _work(task: Task[Item, Result], items: list[Item]) -> list[Result]:
    return [task(_here[0], item) for item in items]


def spread(
    model: Model, task: Task[Item, Result], items: Sequence[Item], workers: int | None = None, *, chunk: int = 1,
    told: Callable[[float], None] | None = None,
) -> Iterator[Result]:  # fmt: skip
    """What a task makes of each item of a model, in their order.

    ``workers`` None: as many processes as there are cores. ``chunk`` items go to one of them at a time; fewer than
    four chunks are not worth the start of any.
    """
    count = os.cpu_count() or 1 if workers is None else workers
    if count < 2 or len(items) < 4 * chunk:
        tried = Tried(model)
        for number, item in enumerate(items, 1):
            yield task(tried, item)
            if told is not None:
                told(number / len(items))
        return
    chunks = [list(items[k : k + chunk]) for k in range(0, len(items), chunk)]
    with ProcessPoolExecutor(count, _context(), _begin, (model,)) as pool:
        done = 0
        try:
            for results in pool.map(partial(_work, task), chunks):
                yield from results
                done += len(results)
                if told is not None:
                    told(done / len(items))
        except (KeyboardInterrupt, GeneratorExit):
            pool.shutdown(wait=False, cancel_futures=True)
            raise


def at_point(tried: Tried, settings: tuple[str, ...]) -> Outcome:
    """The outcome at one point, as a task."""
    return tried.at(settings)


def work_out(
    model: Model, points: Sequence[tuple[str, ...]], workers: int | None = None,
    told: Callable[[float], None] | None = None,
) -> Iterator[Outcome]:  # fmt: skip
    """What the model comes to at each of the points (settings), in their order."""
    return spread(model, at_point, points, workers, chunk=_CHUNK if model.play is None else 1, told=told)


def outcome_data(outcome: Outcome) -> dict[str, Any]:
    """As JSON, for what is to be gone on with later."""
    return {
        "needs": {name: list(astuple(need)) for name, need in outcome.needs.items()},
        "load": outcome.load,
        "lost": list(outcome.lost),
        "wrong": outcome.wrong,
    }


def outcome_of(data: Any) -> Outcome:
    """Of what :func:`outcome_data` made.

    Raises:
        ValueError: it is none of these.
    """
    try:
        needs = {str(name): NeedAt(*values) for name, values in data["needs"].items()}
        return Outcome(needs, data["load"], tuple(data["lost"]), str(data["wrong"]))
    except (KeyError, TypeError, AttributeError) as error:
        raise ValueError(str(error)) from None
