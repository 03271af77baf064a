"""Flags that nobody sets, or nobody looks at: allowed, yet almost always a misspelt name."""

from __future__ import annotations

import difflib

from tachys.model.report import Path, Reporter
from tachys.model.schema import AllTable, ModelFile, SleepTable, StepTable


def as_names(value: str | list[str]) -> tuple[str, ...]:
    """One name or several as a tuple, each once."""
    return (value,) if isinstance(value, str) else tuple(dict.fromkeys(value))


def polled_by(step: StepTable) -> tuple[str, ...]:
    """The flags that a step polls, or its buffer."""
    return as_names(step.polls.all if isinstance(step.polls, AllTable) else step.polls)


def note_lone_flags(model: ModelFile, report: Reporter) -> None:
    """Warn of flags without a partner, with the nearest name that would fit."""
    set_by: dict[str, Path] = {flag: ("flag", flag, "set_by") for flag in model.flag}
    for name, isr in model.isr.items():
        set_by.update((flag, ("isr", name, "sets")) for flag in as_names(isr.sets))
        if isr.nth is not None:
            set_by.update((flag, ("isr", name, "nth")) for flag in as_names(isr.nth.sets))
    for name, step in model.step.items():
        set_by.update((flag, ("step", name, "sets")) for flag in as_names(step.sets))
    if model.startup is not None:
        set_by.update((flag, ("startup", "sets")) for flag in as_names(model.startup.sets))
    seen_by: dict[str, Path] = {}
    for name, step in model.step.items():
        for flag in polled_by(step):
            if not flag.startswith("buffer."):
                seen_by.setdefault(flag, ("step", name, "polls"))
        for part in (step, *step.then):
            if isinstance(part.waits, str) and not part.waits.startswith("unit."):
                seen_by.setdefault(part.waits, ("step", name, "waits"))
        if isinstance(step.sleep, SleepTable):
            for flag in as_names(step.sleep.unless):
                seen_by.setdefault(flag, ("step", name, "sleep"))
    for here, there, code, text in (
        (seen_by, set_by, "flag-never-set", "looks at a flag that nothing sets"),
        (set_by, seen_by, "flag-never-polled", "sets a flag that no step looks at"),
    ):
        for flag in here.keys() - there.keys():
            near = difflib.get_close_matches(flag, there.keys() - here.keys(), n=1)
            mend = f'did you mean "{near[0]}"?' if near else "complete the pair, or remove it"
            report.note(here[flag], code, f'"{flag}": {text}', mend)
