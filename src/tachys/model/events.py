"""The words of a model: things, such as ``isr.tick``, and the events that happen to them, such as ``isr.tick.end``.

Each is the word it prints as, taken apart once.
"""

from __future__ import annotations

from typing import ClassVar, Self

from msgspec import Struct


class _Word(str):
    """A word that is taken apart where it is first met, and from then on is the same object."""

    __slots__ = ("kind", "name")
    kind: str
    name: str
    _met: ClassVar[dict[str, Self]]

    def __init_subclass__(cls) -> None:
        cls._met = {}

    def __new__(cls, text: str) -> Self:
        """The word of that text."""
        known = cls._met.get(text)
        if known is None:
            known = cls._met[text] = super().__new__(cls, text)
            known._take_apart()
        return known

    def _take_apart(self) -> None:
        self.kind, self.name = self.split(".")[0], [*self.split("."), ""][1]


class Thing(_Word):
    """A source, unit, routine, step or flag; on a capture also a ``line`` that the model does not know."""

    __slots__ = ()

    @property
    def start(self) -> Event:
        """The event of its beginning: the first instruction of a body."""
        return Event(f"{self}.start")

    @property
    def end(self) -> Event:
        """The event of its end."""
        return Event(f"{self}.end")


class Event(_Word):
    """Something that happens at an instant, to a ``thing``: a source comes, a unit, routine or step begins or ends."""

    __slots__ = ("thing",)
    thing: Thing

    def _take_apart(self) -> None:
        super()._take_apart()
        self.thing = Thing(f"{self.kind}.{self.name}" if self.name else self.kind)

    @property
    def moment(self) -> str:
        """ "start", "end", "lost", or what an event within a routine is called; empty for a source or a request."""
        return self[len(self.kind) + len(self.name) + 2 :]

    @property
    def requests(self) -> bool:
        """Whether it is the request of a buffer."""
        return self.kind == "buffer" and not self.moment

    @classmethod
    def written(cls, text: str) -> Event:
        """The event that a model file names: a unit alone stands for its end."""
        return cls(f"{text}.end" if text.startswith("unit.") and text.count(".") == 1 else text)


def instant_of(shown: str) -> Event:
    """The event that an edge stands for: the beginning of a body where only the body is named."""
    event = Event(shown)
    return event if event.moment or event.kind == "source" else event.thing.start


class Named(Struct, frozen=True):
    """What has a name of its own in a model."""

    kind: ClassVar[str]
    name: str

    @property
    def thing(self) -> Thing:
        """The word for it."""
        return Thing(f"{self.kind}.{self.name}")


class Body(Named, frozen=True):
    """What begins and ends: a unit, routine or step."""

    @property
    def start(self) -> Event:
        """The event of its beginning."""
        return self.thing.start

    @property
    def end(self) -> Event:
        """The event of its end."""
        return self.thing.end
