"""Every quantity there is, once: what it belongs to, what it is called, and who can tell it.

Tables, JSON, CSV, ``--why``, ``--worst``, ``--spread``, the engine's statistics and the tests read this list.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct


class Measure(Struct, frozen=True):
    """A time of each thing of a ``kind``: ``key`` in JSON and records, ``title`` as people read it.

    ``bounded``: paper has a bound of it; ``played``: a simulation counts it; ``seen``: a capture can show it.
    """

    kind: str
    key: str
    title: str
    bounded: bool = True
    played: bool = True
    seen: bool = True

    def name(self, of: str) -> str:
        """Its name for a thing of that name; of a flag and of the loop there is one only, without a key."""
        if self.kind == "loop":
            return "pass"
        return f"flag.{of}" if self.kind == "flag" else f"{self.kind}.{of}.{self.key}"

    def thing(self, of: str) -> str:
        """The thing of that name that it is of; the loop has none."""
        return f"{self.kind}.{of}" if of else self.kind


# in the order in which things are told; those of one kind stand in the engine's memory in this order, too
MEASURES = (
    Measure("isr", "latency", "latency"),
    Measure("isr", "response", "response"),
    Measure("isr", "span", "span"),
    Measure("isr", "cost", "own cost", bounded=False),
    Measure("unit", "time", "start to end"),
    Measure("flag", "reaction", "set to taken"),
    Measure("buffer", "time", "put to gone", seen=False),
    Measure("step", "interval", "start to next start"),
    Measure("step", "duration", "start to end"),
    Measure("step", "own", "own time", bounded=False, played=False),
    Measure("step", "late", "due to start"),
    Measure("loop", "pass", "one pass", seen=False),
)
KINDS = tuple(dict.fromkeys(measure.kind for measure in MEASURES))


def measures_of(kind: str, *, bounded: bool = False, played: bool = False, seen: bool = False) -> Iterator[Measure]:
    """The measures of a kind, of those that are bounded, played or seen if that is asked for."""
    for each in MEASURES:
        if each.kind == kind and each.bounded >= bounded and each.played >= played and each.seen >= seen:
            yield each
