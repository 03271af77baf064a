"""What got worse since earlier: the earlier one is the JSON that the same command printed then."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from tachys.errors import input_error
from tachys.files import read_json
from tachys.needs.kinds import Need
from tachys.needs.verdicts import WORST_FIRST, Verdict

Data = dict[str, Any]
_COMMANDS = {"check": "tachys check", "bounds": "tachys bounds", "simulation": "tachys simulate"}
_LOSES = (("isrs", "isr", "lost"), ("units", "unit", "lost"), ("flags", "flag", "overwritten"),
          ("buffers", "buffer", "lost"))  # fmt: skip
_UNITS = {"time": (1e6, "us"), "share": (100, "%"), "current": (1e6, "uA"), "life": (1 / 86_400, "days"),
          "number": (1, "")}  # fmt: skip
_LARGEST = 1e18  # of any figure
_SAME = 1e-9  # what two doubles of one figure may differ by, as a share of it


def read_baseline(path: str, kind: str) -> dict[str, Data]:
    """What was earlier, of a "check", "bounds" or "simulation": of a check by the names of its captures, else by "".

    Raises:
        InputError: the file cannot be read, or is nothing of that kind.
    """
    mend = f"write it with {_COMMANDS[kind]} … --format json > FILE"
    data = read_json(path, f"what {_COMMANDS[kind]} printed", mend)
    each: Any = data.get("captures") if kind == "check" and isinstance(data, dict) and "captures" in data else [data]
    if not isinstance(each, list) or not all(_is_good(one, kind) for one in each):
        raise input_error(path, f"is nothing that {_COMMANDS[kind]} printed", mend)
    return {Path(one.get("capture", "")).name: one for one in each}


def _is_good(data: Any, kind: str) -> bool:
    if (
        not isinstance(data, dict)
        or data.get("format") != f"tachys.{kind}/1"
        or not isinstance(data.get("needs"), dict)
    ):
        return False
    return kind != "check" or (isinstance(data.get("findings"), list) and isinstance(data.get("capture"), str))


def worse_than(baseline: dict[str, Data], now: Data, needs: Mapping[str, Need]) -> list[str]:
    """What is worse than it was, a sentence each; a single capture of another name is the one meant."""
    name = Path(now.get("capture", "")).name
    before = baseline.get(name) or (next(iter(baseline.values())) if len(baseline) == 1 else None)
    if before is None:
        return [f"{name}: the baseline has no such capture"]
    return [*_needs(before, now, needs), *_losses(before, now), *_load(before, now), *_findings(before, now)]


def _needs(before: Data, now: Data, needs: Mapping[str, Need]) -> Iterator[str]:
    for name, data in now["needs"].items():
        old = before["needs"].get(name)
        if isinstance(old, dict):
            yield from _need(name, old, data)
            if now["format"] == "tachys.bounds/1":
                yield from _bound(needs[name], old, data["bound"])
        else:
            yield f"need.{name} is new: {data['verdict']}"


def _need(name: str, old: Data, new: Data) -> Iterator[str]:
    ranks = {str(verdict): rank for rank, verdict in enumerate(WORST_FIRST)}
    if ranks[new["verdict"]] < ranks.get(str(old.get("verdict")), len(Verdict)):
        yield f"need.{name} was {old.get('verdict')}, is {new['verdict']}"
    misses, was_missed = _count(new), _count(old)
    if misses > was_missed:
        yield f"need.{name} is missed {misses - was_missed} times more: {misses}"
    seen, is_ = _table(old, "seen"), _table(new, "seen")
    was, most = _number(seen, "most"), _number(is_, "most")
    slack = (_number(is_, "resolution") or 0) + (_number(seen, "resolution") or 0)
    if was is not None and most is not None and _beyond(most, was + slack):
        yield f"need.{name}: worst seen {_text(most)}, was {_text(was)}"


def _bound(need: Need, old: Data, is_: float | None) -> Iterator[str]:
    was = _number(old, "bound")
    if was is None and old.get("bound") is not None:
        return  # nothing that was ever printed
    if need.measures == "life":  # more is better, and what lasts without end has no number
        worse = is_ is not None and (was is None or _beyond(was, is_))
    else:
        worse = was is not None and (is_ is None or _beyond(is_, was))
    if worse:
        yield f"need.{need.name}: bound {_text(is_, need.measures)}, was {_text(was, need.measures)}"


def _losses(before: Data, now: Data) -> Iterator[str]:
    for table, kind, key in _LOSES:
        for name, data in _table(now, table).items():
            if (_table(_table(before, table), name).get(key), data.get(key)) == ("never", "possible"):
                yield f"{kind}.{name} may lose something now"


def _load(before: Data, now: Data) -> Iterator[str]:
    was, is_ = (_number(_table(each, "load"), "most") for each in (before, now))
    if now["format"] == "tachys.bounds/1" and was is not None and is_ is not None and _beyond(is_, was):
        yield f"load at most {100 * is_:.1f} %, was {100 * was:.1f} %"


def _findings(before: Data, now: Data) -> Iterator[str]:
    found = before.get("findings", [])
    known = [(each.get("code"), each.get("about")) for each in found if isinstance(each, dict)]
    for each in now.get("findings", []):
        if (each["code"], each["about"]) not in known:
            yield f"new: {each['about']}: {each['text']}"


def _table(data: Data, key: str) -> Data:
    """A table in what a stranger's file holds; empty where there is none."""
    found = data.get(key)
    return found if isinstance(found, dict) else {}


def _number(data: Data, key: str) -> float | None:
    found = data.get(key)
    real = isinstance(found, int | float) and not isinstance(found, bool) and abs(found) < _LARGEST
    return found if real else None


def _count(need: Data) -> int:
    """How many misses: a list of them, or their number."""
    misses = need.get("misses")
    return len(misses) if isinstance(misses, list) else int(_number(need, "misses") or 0)


def _beyond(is_: float, was: float) -> bool:
    return is_ > was + abs(was) * _SAME


def _text(value: float | None, measures: str = "time") -> str:
    if value is None:
        return "none"
    factor, unit = _UNITS[measures]
    return f"{value:g}" if measures == "number" else f"{value * factor:.3f} {unit}"
