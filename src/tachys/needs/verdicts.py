"""The law of verdicts: what follows for a need from its proof, from the premises of that proof, and from what was seen.

- *met*: proved, no premise of the proof refuted, and nothing seen beyond the limit.
- *missed*: seen beyond the limit; or it cannot hold: the least that can happen is beyond it, and nothing else was seen.
- *at risk*: not proved, or proved on a premise that a capture refutes, and nothing seen breaks it; so too where it was
  seen to hold and cannot hold on paper.
- *unseen*: there is no bound, and nothing shows it.
"""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct


class Verdict(StrEnum):
    """What is known of a need, on paper and on the board."""

    MET = "met"
    AT_RISK = "at risk"
    MISSED = "missed"
    UNSEEN = "unseen"


class Basis(StrEnum):
    """What a verdict rests on."""

    BOTH = "paper and board"
    PAPER = "paper"
    BOARD = "board"
    NONE = ""


WORST_FIRST = (Verdict.MISSED, Verdict.AT_RISK, Verdict.UNSEEN, Verdict.MET)


class Proof(Struct, frozen=True):
    """What paper says of a need: whether it is proved, has a bound at all, or cannot hold."""

    proved: bool
    bounded: bool
    cannot_hold: bool = False


def verdict_of(
    proof: Proof, *, seen: bool = False, held: bool = False, broken: bool = False, refuted: bool = False
) -> Verdict:
    """The verdict. ``refuted``: the proof is.

    ``seen``: at least once; ``held``: a need that cannot hold was; ``broken``: beyond the limit at least once.
    """
    if broken or (proof.cannot_hold and not held and not refuted):
        return Verdict.MISSED
    if proof.proved and not refuted:
        return Verdict.MET
    return Verdict.AT_RISK if proof.bounded or proof.proved or seen else Verdict.UNSEEN


def basis_of(proof: Proof, verdict: Verdict, *, seen: bool) -> Basis:
    """What a verdict rests on: of a bound and of something seen, whichever there is."""
    paper = proof.cannot_hold if verdict is Verdict.MISSED else proof.bounded or proof.proved
    if paper and seen:
        return Basis.BOTH
    return Basis.PAPER if paper else Basis.BOARD if seen else Basis.NONE
