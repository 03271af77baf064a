"""Which number stands for what in the engine's memory and records."""

from __future__ import annotations

from dataclasses import dataclass

from tachys.model.system import System


@dataclass(frozen=True, slots=True)
class Index:
    """The names of a system by number; ``rows`` are (routine, event)."""

    sources: tuple[str, ...]
    units: tuple[str, ...]
    isrs: tuple[str, ...]
    rows: tuple[tuple[str, str], ...]
    steps: tuple[str, ...]
    flags: tuple[str, ...]

    def events(self) -> list[str]:
        """All events, by number."""
        names = [f"source.{name}" for name in self.sources]
        for kind, bodies in (("unit", self.units), ("isr", self.isrs), ("step", self.steps)):
            for name in bodies:
                names += [f"{kind}.{name}.start", f"{kind}.{name}.end"]
        return names


def index_of(system: System) -> Index:
    """The numbers of a system's things."""
    flags = [flag for isr in system.isrs for flag in isr.sets]
    for step in system.steps:
        flags += [step.polls] if step.polls else []
        flags += [step.waits] if step.waits and not step.waits.startswith("unit.") else []
        flags += step.unless
    return Index(
        tuple(source.name for source in system.sources),
        tuple(unit.name for unit in system.units),
        tuple(isr.name for isr in system.isrs),
        tuple((isr.name, event) for isr in system.isrs for event in isr.on),
        tuple(step.name for step in system.steps),
        tuple(dict.fromkeys(flags)),
    )
