"""The words of the tool, of ``glossary.txt``: what each means, and what the trade and the literature call it."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from msgspec import Struct

from tachys.errors import did_you_mean
from tachys.files import titled_lines

_HEAD = """# Words

What a word means here, and what others call it. `tachys words` lists them, `tachys words jitter` tells one, also by
another's name (`tachys words WCET`), and `tachys words cost-longer` tells what a finding means.
"""


class Term(Struct, frozen=True):
    """A word of ours, what others call it, and what it means."""

    word: str
    others: tuple[str, ...]
    meaning: str

    @property
    def names(self) -> tuple[str, ...]:
        """All that it may be asked for by."""
        return (self.word, *self.others)


@cache
def terms() -> dict[str, tuple[Term, ...]]:
    """All of them, by the title of their part."""
    found: dict[str, tuple[Term, ...]] = {}
    for title, line in titled_lines(Path(__file__).with_name("glossary.txt")):
        word, others, meaning = (part.strip() for part in line.split("|", 2))
        found[title] = (*found.get(title, ()), Term(word, tuple(filter(None, others.split(", "))), meaning))
    return found


def find(word: str) -> Term | None:
    """The term of that name, first ours, then others'; None: there is none."""
    wanted = {_plain(word), _plain(word).removesuffix("s")}
    known = [term for part in terms().values() for term in part]
    ours = (term for term in known if _plain(term.word) in wanted)
    return next(ours, None) or next((term for term in known if wanted & set(map(_plain, term.others))), None)


def near(word: str, more: tuple[str, ...] = ()) -> str:
    """The mend for a word that there is not."""
    known = [name for part in terms().values() for term in part for name in term.names]
    return did_you_mean(word.lower(), [*known, *more], "word")


def page() -> str:
    """All of it as a page (docs/words.md)."""
    lines = [_HEAD]
    for title, part in terms().items():
        lines += [f"## {title}", "", "| word | others say | what it is |", "|---|---|---|"]
        lines += [f"| **{term.word}** | {', '.join(term.others)} | {term.meaning} |" for term in part]
        lines += [""]
    return "\n".join(lines)


def _plain(word: str) -> str:
    return word.lower().replace("-", " ")
