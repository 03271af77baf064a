"""What a team has looked at and accepts, with the reason: so a strict check can pass, and says so."""

from __future__ import annotations

from msgspec import Struct

from tachys.model.report import Reporter
from tachys.model.schema import ModelFile


class Accepted(Struct, frozen=True):
    """``on_paper``: needs that may rest on paper alone; ``findings``: "code about" (cost-longer isr.tick)."""

    on_paper: frozenset[str] = frozenset()
    findings: frozenset[str] = frozenset()


def make_accepted(model: ModelFile, report: Reporter, needs: frozenset[str]) -> Accepted:
    """What the model accepts; everything needs its ``because``."""
    on_paper = set(model.accept.paper)
    for name in sorted(on_paper - needs):
        report.complain(("accept", "paper"), f'"{name}" names no need', "name needs, such as x or tick.deadline")
    for name, table in model.need.items():
        if table.accept is not None:
            on_paper.add(name)
            if not table.because:
                report.complain(("need", name, "accept"), "says no reason", 'add because = "…"')
    for text in model.accept.findings:
        if len(text.split()) != 2:
            report.complain(
                ("accept", "findings"), f'"{text}" is no finding', 'write what and of what: "cost-longer isr.tick"'
            )
    if (model.accept.findings or model.accept.paper) and not model.accept.because:
        report.complain(("accept",), "says no reason", 'add because = "…"')
    return Accepted(frozenset(on_paper), frozenset(model.accept.findings))
