"""What got worse since an earlier check: the earlier one is the JSON that the check wrote then."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from tachys.errors import input_error
from tachys.files import read_json
from tachys.needs.verdicts import WORST_FIRST, Verdict


def read_baseline(path: str) -> dict[str, dict[str, Any]]:
    """The captures of an earlier check by file name.

    Raises:
        InputError: the file cannot be read or is no result of a check.
    """
    mend = "write it with tachys check … --format json > FILE"
    data = read_json(path, "the result of a check", mend)
    captures: Any = data.get("captures") if isinstance(data, dict) and "captures" in data else [data]
    good = isinstance(captures, list) and all(
        isinstance(each, dict) and each.get("format") == "tachys.check/1" and isinstance(each.get("needs"), dict)
        and isinstance(each.get("findings"), list) and isinstance(each.get("capture"), str)
        for each in captures
    )  # fmt: skip
    if not good:
        raise input_error(path, "is no result of a check", mend)
    return {Path(each["capture"]).name: each for each in captures}


def worse_than(baseline: dict[str, dict[str, Any]], now: dict[str, Any]) -> list[str]:
    """What is worse in one capture than it was, a sentence each; a single capture of another name is the one meant."""
    name = Path(str(now["capture"])).name
    before = baseline.get(name) or (next(iter(baseline.values())) if len(baseline) == 1 else None)
    if before is None:
        return [f"{name}: the baseline has no such capture"]
    found = []
    for need, data in now["needs"].items():
        old = before["needs"].get(need)
        if not isinstance(old, dict):
            found.append(f"need.{need} is new: {data['verdict']}")
            continue
        found += _need(need, old, data)
    known = {(each.get("code"), each.get("about")) for each in before["findings"] if isinstance(each, dict)}
    found += [
        f"new: {each['about']}: {each['text']}"
        for each in now["findings"]
        if (each["code"], each["about"]) not in known
    ]
    return found


def _need(name: str, old: dict[str, Any], new: dict[str, Any]) -> list[str]:
    found = []
    ranks = {str(verdict): rank for rank, verdict in enumerate(WORST_FIRST)}
    if ranks[new["verdict"]] < ranks.get(str(old.get("verdict")), len(Verdict)):
        found.append(f"need.{name} was {old.get('verdict')}, is {new['verdict']}")
    misses = len(new["misses"]) - len(old.get("misses") or [])
    if misses > 0:
        found.append(f"need.{name} is missed {misses} times more: {len(new['misses'])}")
    was, is_ = old.get("seen"), new["seen"]
    if isinstance(was, dict) and is_ and isinstance(was.get("most"), (int, float)):
        slack = is_["resolution"] + float(was.get("resolution") or 0)
        if is_["most"] > was["most"] + slack:
            found.append(f"need.{name}: worst seen {is_['most'] * 1e6:.3f} us, was {was['most'] * 1e6:.3f} us")
    return found
