"""The misses of a need, grouped by what made them late."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from tachys.checking.board.waits import How, longest_guard
from tachys.checking.result import Miss
from tachys.model.events import Thing
from tachys.model.system import System


class Group(Struct, frozen=True):
    """``count`` misses with the same main cause, which took ``least`` to ``most`` ps of each wait.

    ``modelled``: what the model allows it in such a wait in ps: the guard of what holds off, else what the bound
    expects; None where it says nothing.
    """

    what: Thing
    how: How
    count: int
    least: int
    most: int
    modelled: int | None


def groups_of(system: System, misses: Sequence[Miss]) -> tuple[Group, ...]:
    """The main cause of each miss that was taken apart, the most frequent first."""
    found: dict[tuple[Thing, How], list[tuple[int, int | None]]] = {}
    for miss in misses:
        main = next((cause for cause in miss.causes if cause.how != "entry and exit"), None)
        if main is not None:
            found.setdefault((main.what, main.how), []).append((main.time, main.expected))
    made = [
        Group(what, how, len(times), min(time for time, _ in times), max(time for time, _ in times),
              _modelled(system, what, how, [expected for _, expected in times if expected is not None]))
        for (what, how), times in found.items()
    ]  # fmt: skip
    return tuple(sorted(made, key=lambda group: -group.count))


def _modelled(system: System, what: Thing, how: How, expected: list[int]) -> int | None:
    if how == "held off":
        return longest_guard(system, what)
    return max(expected, default=None)
