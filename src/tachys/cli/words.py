"""``tachys words``: what a word, a verdict or the code of a finding means."""

from __future__ import annotations

import click

from tachys.glossary import Term, find, near, terms


@click.command("words")
@click.argument("word", nargs=-1, metavar="[WORD]")
def words_command(word: tuple[str, ...]) -> int:
    """What a WORD means here: a term, ours or the literature's, a verdict, or the code of a finding.

    Without one: all of them.
    """
    from tachys.checking.compare.sentences import codes, mend_of, sentence
    from tachys.cli.output import heading, say, say_below, table
    from tachys.errors import input_error

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
    term = find(asked)
    if term is None:
        raise input_error(asked, "is none of the words here", near(asked, codes()))
    _tell(term)
    return 0


def _tell(term: Term) -> None:
    from tachys.cli.output import heading, say_below

    heading(term.word)
    say_below(term.meaning, *[f"Others say: {', '.join(term.others)}."] * bool(term.others))
