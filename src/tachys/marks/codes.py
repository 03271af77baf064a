"""Which number stands for which name of a model: the same in the header and where its stream is read."""

from __future__ import annotations

import re
import zlib
from collections.abc import Collection, Iterator
from typing import Literal

from msgspec import Struct

from tachys.errors import did_you_mean, input_error
from tachys.model.system import System

ALIVE, LOST, DATA, FIRST = 0, 1, 2, 16
SLIP_END, SLIP_ESCAPE = 0xC0, 0xDB
MOST_CODES = 256
FORMAT = 1
Kind = Literal["body", "event", "value"]


class Mark(Struct, frozen=True):
    """What a name of the model is marked with: ``macro`` in C, ``code`` in the ring; a body is left with code + 1."""

    name: str
    macro: str
    kind: Kind
    code: int


def marks_of(system: System, left_out: Collection[str] = ()) -> tuple[Mark, ...]:
    """A mark for every body, event within one and value of a model but those left out, in the order of the model.

    Raises:
        InputError: a name that is left out is none of these, or there are more than 8 bits can tell apart.
    """
    names = dict(_names(system))
    for name in left_out:
        if name not in names:
            raise input_error("--without", f'"{name}" has no mark', did_you_mean(name, list(names), "mark"))
    found, codes = list[Mark](), _codes()
    macros = set[str]()
    for name, kind in names.items():
        if name in left_out:
            continue
        code = next(codes)
        if code >= MOST_CODES - 1:
            raise input_error(
                system.title or "model", f"has {len(names)} names to mark, and 8 bits tell 117 apart",
                "leave out what no need asks for: --without NAME",
            )  # fmt: skip
        macro = re.sub(r"\W", "_", name)
        while macro in macros:
            macro += "_"
        macros.add(macro)
        found.append(Mark(name, macro, kind, code))
    return tuple(found)


def digest(marks: Collection[Mark]) -> int:
    """What tells whether a stream was made with these marks: CRC-32 of all names and codes."""
    return zlib.crc32("\n".join(f"{mark.code} {mark.kind} {mark.name}" for mark in marks).encode())


def _names(system: System) -> Iterator[tuple[str, Kind]]:
    if system.startup is not None:
        yield system.startup.thing, "body"
    for isr in system.isrs:
        yield isr.thing, "body"
    for step in system.steps:
        if not step.once:
            yield step.thing, "body"
    for isr in system.isrs:
        yield from ((str(event), "event") for event in isr.inner)
    for some in (system.buffers, system.counters):
        yield from ((each.thing, "value") for each in some)


def _codes() -> Iterator[int]:
    """Codes in pairs, none of which SLIP must write as two bytes."""
    for code in range(FIRST, 1 << 16, 2):
        if not {code, code + 1} & {SLIP_END, SLIP_ESCAPE}:
            yield code
