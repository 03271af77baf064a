"""A model at many points: with other values of a few keys, worked out here or elsewhere, in order."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from typing import Any

from msgspec import Struct, field
from msgspec.structs import astuple

from tachys.errors import InputError
from tachys.files import read_text
from tachys.model.costs import CostTable, cost_table
from tachys.model.loading import LARGEST_MODEL, ModelText
from tachys.model.system import System
from tachys.spreading import Workers, spread
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

_CHUNK = 8


class NeedAt(Struct, frozen=True):
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


class Outcome(Struct, frozen=True):
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


class Model(Struct, frozen=True):
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

    def to_text(self) -> str:
        """All of it as a text, for who works elsewhere."""
        costs = None if self.costs is None else [self.costs.text, self.costs.file]
        return json.dumps([self.text, self.file, self.variants, self.settings, self.play, costs])

    @classmethod
    def from_text(cls, text: str) -> Model:
        """Of what :meth:`to_text` made."""
        model, file, variants, settings, play, costs = json.loads(text)
        return cls(model, file, tuple(variants), tuple(settings), play, costs and cost_table(*costs))


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


@lru_cache(maxsize=4)
def tried_of(text: str) -> Tried:
    """The model of :meth:`Model.to_text`, for a job that is done at many of its points."""
    return Tried(Model.from_text(text))


def at_point(model: str, settings: Sequence[str]) -> dict[str, Any]:
    """The outcome at one point as :func:`outcome_data`: a job."""
    return outcome_data(tried_of(model).at(tuple(settings)))


def work_out(model: Model, points: Iterable[tuple[str, ...]], workers: Workers) -> Iterator[Outcome]:
    """What the model comes to at each of the points (settings), in their order."""
    chunk = _CHUNK if model.play is None else 1
    return map(outcome_of, spread(at_point, model.to_text(), points, workers, chunk=chunk))


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
        return Outcome(needs, data["load"], tuple(map(str, data["lost"])), str(data["wrong"]))
    except (KeyError, TypeError, AttributeError) as error:
        raise ValueError(str(error)) from None
