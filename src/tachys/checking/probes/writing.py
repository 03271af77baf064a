"""Proposals as ``[probe.*]`` tables, put into the text of a model whose comments and order stay as they are."""

from __future__ import annotations

import tomlkit
from tomlkit.items import Table

from tachys.checking.probes.evidence import Meaning
from tachys.checking.probes.misbound import Binding
from tachys.checking.probes.proposing import LIKELY, Proposal


def wanted(binding: Binding) -> list[Proposal]:
    """The proposals that would change the model: of lines without a probe, and of those whose probe is wrong."""
    wrong = {line for fault in binding.faults for line in fault.lines}
    return [
        each
        for each in binding.proposals
        if each.meaning is not None
        and each.margin >= LIKELY
        and (each.line not in binding.today or (each.line in wrong and binding.today[each.line] != each.meaning))
    ]


def probe_text(proposals: list[Proposal]) -> str:
    """The tables of some proposals, to be pasted into a model."""
    document = tomlkit.document()
    for each in proposals:
        if each.meaning is not None:
            table = document.setdefault("probe", tomlkit.table(is_super_table=True))
            table[each.line] = _table(each.meaning, _note(each))
    return tomlkit.dumps(document)


def with_probes(text: str, proposals: list[Proposal]) -> str:
    """A model's text with some proposals in it."""
    document = tomlkit.parse(text)
    if not text.endswith("\n"):
        document.add(tomlkit.nl())
    probes = document.setdefault("probe", tomlkit.table(is_super_table=True))
    for each in proposals:
        if each.meaning is None:
            continue
        known = probes.get(each.line)
        if known is None:
            probes[each.line] = _table(each.meaning, _note(each))
            continue
        for key, value in _keys(each.meaning).items():
            known[key] = value
        for key in ("edge", "active", "codes"):
            if key not in _keys(each.meaning) and key in known:
                del known[key]
        known["shows"].comment(_note(each))
    return tomlkit.dumps(document)


def _note(proposal: Proposal) -> str:
    return "; ".join([proposal.how_sure, *proposal.why[:1]])


def _keys(meaning: Meaning) -> dict[str, str]:
    keys = {"shows": str(meaning.thing)}
    if meaning.edge is not None:
        keys["edge"] = meaning.edge
    if meaning.active_low:
        keys["active"] = "low"
    return keys


def _table(meaning: Meaning, note: str) -> Table:
    table = tomlkit.table()
    for key, value in _keys(meaning).items():
        table[key] = value
    table["shows"].comment(note)
    return table
