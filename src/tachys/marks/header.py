"""The C99 header that makes the marks of a model."""

from __future__ import annotations

from collections.abc import Sequence
from importlib.resources import files
from math import ceil

from tachys.marks.codes import FORMAT, Mark, digest
from tachys.model.system import System

NAME = "tachys_marks.h"
COUNT_BITS = 24


def turns_a_second(hertz: int) -> int:
    """How often a second the ring must be looked at, so that its counter never turns round unseen."""
    return max(1, ceil(4 * hertz / (1 << COUNT_BITS)))


def header(system: System, marks: Sequence[Mark], hertz: int, model: str) -> str:
    """The text of the header; ``hertz`` is how fast the counter counts unless the port says otherwise."""
    codes = "".join(f",\n    TACHYS_{mark.macro} = {mark.code}" for mark in marks)
    said = {
        "TITLE": _comment(system.title or model), "MODEL": _comment(model), "FORMAT": str(FORMAT), "HZ": f"{hertz}u",
        "DIGEST": f"{digest(marks):08X}", "BITS": str(COUNT_BITS), "TURNS": str(turns_a_second(hertz)), "CODES": codes,
    }  # fmt: skip
    text = (files("tachys.marks") / "marks.h").read_text(encoding="utf-8")
    for name, value in said.items():
        text = text.replace(f"@{name}@", value)
    return text


def _comment(text: str) -> str:
    """A text that cannot end the comment in which it stands, nor go on as code, whatever a model is called."""
    plain = "".join(each if each.isprintable() and each not in "@\\?" else " " for each in text)
    return plain.replace("*/", "* /").replace("/*", "/ *")[:80]
