"""Text that comes from strangers' files, on its way out: names may hold anything, and must not move a terminal."""

from __future__ import annotations

import re

# controls, and what turns the direction of writing or breaks lines
_UNSEEN = re.compile(
    r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\uffff\ud800-\udfff]"
)


def printable(text: str) -> str:
    """Text for people: a ? stands for each character that would not be seen."""
    return _UNSEEN.sub("?", text)


def drawable(text: str) -> str:
    """Text for pictures, in which dollar signs would begin a formula."""
    return printable(text).replace("$", r"\$")


def escaped(text: str) -> str:
    """Text for programs: such characters as ``\\\\uXXXX``, so that nothing is lost and nothing acts."""
    return _UNSEEN.sub(lambda match: f"\\u{ord(match.group()):04x}", text)
