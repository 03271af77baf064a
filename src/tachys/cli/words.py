"""``tachys words``: what a word, a verdict or the code of a finding means."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from tachys.glossary import Term, find, near, terms

if TYPE_CHECKING:
    from tachys.model.keys import Key


@click.command("words")
@click.argument("word", nargs=-1, metavar="[WORD]")
def words_command(word: tuple[str, ...]) -> int:
    """What a WORD means here: a term, ours or the literature's, a verdict, a key of a model, the code of a finding.

    Without one: all terms.
    """
    from tachys.checking.compare.sentences import codes, mend_of, sentence
    from tachys.cli.output import heading, say, say_below, table
    from tachys.errors import input_error
    from tachys.model.keys import all_keys, keys_called

    asked = " ".join(word)
    if not asked:
        for title, part in terms().items():
            heading(title)
            table([("word", ""), ("others say", "")], [[term.word, ", ".join(term.others)] for term in part])
        say("What one means: tachys words WORD. Codes of findings are words too: tachys words cost-longer")
        return 0
    if asked in codes():
        heading(asked)
        say_below(f"A finding: {sentence(asked)}.", f"What to do: {mend_of(asked)}.")
        say(f'Accepted by [accept] findings = ["{asked} THING"] of a model. All: docs/findings.md')
        return 0
    term, called = find(asked), keys_called(asked)
    if term is None and not called:
        known = (*codes(), *(name for key in all_keys() for name in key.names))
        raise input_error(asked, "is none of the words here", near(asked, known))
    if term is not None:
        _tell(term)
    _tell_keys(called, whole=term is None)
    return 0


def _tell(term: Term) -> None:
    from tachys.cli.output import heading, say_below

    heading(term.word)
    say_below(term.meaning, *[f"Others say: {', '.join(term.others)}."] * bool(term.others))


def _tell_keys(called: Sequence[Key], *, whole: bool) -> None:
    """Keys of a model of that name; ``whole``: nothing else has it."""
    from tachys.cli.output import heading, say_below

    if called:
        heading("In a model" if not whole else "A key of a model" if len(called) == 1 else "Keys of a model")
    for key in called:
        default = {"": "", "must be given": " It must be given."}.get(key.default, f" Without it: {key.default}.")
        say_below(f"{key.names[0]} = {key.example}", f"   {key.meaning}{default}")
