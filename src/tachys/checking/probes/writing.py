"""Proposals as ``[probe.*]`` tables, put into the text of a model whose comments and order stay as they are."""

from __future__ import annotations

from typing import Any

import tomlkit
from tomlkit.items import Table

from tachys.checking.probes.evidence import Meaning
from tachys.checking.probes.misbound import Binding
from tachys.checking.probes.proposing import LIKELY, Proposal


def wanted(binding: Binding) -> list[Proposal]:
    """The proposals that would change the model: of lines without a probe, and of those whose probe is wrong."""
    wrong = {line for fault in binding.faults if fault.sure for line in fault.lines}
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
        for key, value in each.meaning.keys.items():
            known[key] = value
        for key in ("edge", "active", "codes"):
            if key not in each.meaning.keys and key in known:
                del known[key]
        known["shows"].comment(_note(each))
    return tomlkit.dumps(document)


def binding_data(binding: Binding, file: str) -> dict[str, Any]:
    """All of it as plain data."""
    lines = []
    for each in binding.proposals:
        keys = each.meaning.keys if each.meaning else {}
        lines.append({
            "line": each.line, **{key: keys.get(key) for key in ("shows", "edge", "active")},
            "how_sure": each.how_sure, "margin": round(each.margin, 3),
            "other": None if each.other is None else each.other.text, "why": list(each.why),
            "against": list(each.against),
        })  # fmt: skip
    faults = [{"fault": str(each.fault), "lines": list(each.lines), "wrong": each.wrong, "mend": each.mend,
               "sure": each.sure} for each in binding.faults]  # fmt: skip
    return {"format": "tachys.probes/1", "capture": file, "lines": lines, "faults": faults}


def _note(proposal: Proposal) -> str:
    return "; ".join([proposal.how_sure, *proposal.why[:1]])


def _table(meaning: Meaning, note: str) -> Table:
    table = tomlkit.table()
    for key, value in meaning.keys.items():
        table[key] = value
    table["shows"].comment(note)
    return table
