"""Variants: named changes to a model. The same tables, only what differs; ``false`` takes a table or a key away."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

KeyPath = tuple[str, ...]
_SWITCHES = {"nesting", "late_arrival", "primed", "sleep", "age"}
_ONE_WAY = {
    "source": ({"every", "gap", "timer", "serial", "burst"},),
    "timer": ({"count", "reload_register", "preload"}, {"prescale", "prescale_register"}),
}


def with_variant(raw: Mapping[str, Any], name: str) -> dict[str, Any]:
    """The tables of a model with those of one of its variants laid over them.

    A value replaces the one below, a table is laid over table by table. ``false`` removes what stands there, unless
    the key is a switch itself. Where keys exclude each other (``every`` and ``gap``), the new one replaces the old.
    """
    changes = raw.get("variant", {}).get(name, {})
    base = {key: value for key, value in raw.items() if key != "variant"}
    return _laid_over(base, changes, ())


def _laid_over(below: Mapping[str, Any], above: Any, path: KeyPath) -> dict[str, Any]:
    made = dict(below)
    if not isinstance(above, Mapping):
        return made
    for key, value in above.items():
        if value is False and key not in _SWITCHES:
            made.pop(key, None)
            continue
        for group in _ONE_WAY.get(path[0] if len(path) == 2 else path[-1] if path else "", ()):
            if key in group:
                for other in group - {key}:
                    made.pop(other, None)
        lower = made.get(key)
        if isinstance(value, Mapping) and isinstance(lower, Mapping):
            made[key] = _laid_over(lower, value, (*path, key))
        else:
            made[key] = value
    return made


def written_at(path: KeyPath, variant: str, raw: Mapping[str, Any]) -> KeyPath:
    """Where a key of the merged model stands in the file: in the variant if it, or a table around it, is changed."""
    tables: Any = raw.get("variant", {}).get(variant, {})
    depth = 0
    for part in path:
        if not isinstance(tables, Mapping) or part not in tables:
            break
        tables, depth = tables[part], depth + 1
    return ("variant", variant, *path) if depth and depth >= min(len(path), 2) else path
