"""Changes laid over a model: its variants, the costs of a build, single settings. The same tables, with what differs.

A value replaces the one below, a table is laid over table by table. ``false`` removes what stands there, unless the
key is a switch. Where keys exclude each other (``every`` and ``gap``), the new one replaces the old, with what
goes with that alone. A number in a path names one of a list, from 1.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from tachys.errors import InputError, Place, Problem, did_you_mean
from tachys.model.sources import GOES_WITH, WAYS

KeyPath = tuple[str, ...]
SETTING = Place("--set")
SECTIONS = (
    "clock",
    "source",
    "unit",
    "isr",
    "flag",
    "buffer",
    "step",
    "need",
    "probe",
    "sleep",
    "pin",
    "counter",
    "apart",
)  # of tables with names
_SWITCHES = {"nesting", "late_arrival", "primed", "sleep", "age"}
_ONE_WAY = {
    "source": (frozenset(WAYS),),
    "timer": (frozenset({"count", "reload_register", "preload"}), frozenset({"prescale", "prescale_register"})),
}
_KEY = re.compile(r'\s*(?:"([^"]+)"|([\w-]+))\s*(?:\.|$)')
_BARE_LIST = re.compile(r"\[[^\"'{}\[\]]*\]")


class Layer(Struct, frozen=True):
    """Tables laid over a model, and how a heading names them; ``variant`` is None for costs and settings.

    ``places`` say where in a file of costs each key stands.
    """

    name: str
    tables: Mapping[str, Any]
    variant: str | None = None
    places: Mapping[KeyPath, Place] = field(default_factory=dict)

    def place(self, path: KeyPath) -> Place:
        """Where what it says of a key, or of part of that, stands: a line of a file of costs, or the command line."""
        told = (place for length in (len(path), 2) for key, place in self.places.items()
                if key[:length] == path[:length] or path[: len(key)] == key)  # fmt: skip
        return next(told, SETTING)

    def touches(self, path: KeyPath) -> bool:
        """Whether a key, or a table around it, is changed here: not only something beside it."""
        return self._depth(path) >= min(len(path), 2)

    def says(self, path: KeyPath) -> bool:
        """Whether the key itself, or part of what stands there, is changed here."""
        return self._depth(path) == len(path)

    def _depth(self, path: KeyPath) -> int:
        """How many parts of a path stand here, from the first on."""
        tables: Any = self.tables
        for depth, part in enumerate(path):
            if not isinstance(tables, Mapping) or part not in tables:
                return depth
            tables = tables[part]
        return len(path)

    def taken_away(self) -> Iterator[KeyPath]:
        """The things that are removed here."""
        for section, tables in self.tables.items():
            for name, table in tables.items() if isinstance(tables, Mapping) else ():
                if table is False and name not in _SWITCHES:
                    yield section, name


Costs = Callable[[Mapping[str, Any]], Layer]  # a layer over the tables that it is given


def layers_of(
    raw: Mapping[str, Any], variants: Iterable[str], costs: Costs | None, settings: Sequence[str], file: str
) -> tuple[Layer, ...]:
    """The variants of those names in that order, the costs over them, and the settings together over all.

    Raises:
        InputError: there is no such variant, or a setting or a cost is none; all of them at once.
    """
    written, problems = raw.get("variant", {}), list[Problem]()
    known = list(written) if isinstance(written, Mapping) else []
    layers = []
    for name in variants:
        if name in known:
            layers.append(Layer(f"variant {name}", written[name], name))
        else:
            mend = did_you_mean(name, known, "variant")
            problems.append(Problem(Place(file), "", f'there is no variant "{name}"', mend))
    found: list[tuple[str, KeyPath, Any]] = []
    for text in settings:
        try:
            path, value = read_setting(text)
        except ValueError as error:
            wrong, _, mend = str(error).partition("; ")
            problems.append(Problem(SETTING, "", wrong, mend))
            continue
        found.append((text, path, value))
    problems += _clashes([path for _, path, _ in found])
    if problems:
        raise InputError(problems)
    if costs is not None:
        layers.append(costs(laid_over(raw, layers)))
    for text, path, value in found:
        below = laid_over(raw, layers)
        wrong_ = nowhere(below, path, SETTING, ".".join(path))
        problems += wrong_
        key, _, written_value = text.partition("=")
        layers.append(Layer(f"{key.strip()} = {written_value.strip()}", {} if wrong_ else nested(path, value)))
    if problems:
        raise InputError(problems)
    return tuple(layers)


_TAKEN_AWAY = (("startup", "false"), ("watchdog", "false"))  # whole tables


def read_setting(text: str) -> tuple[KeyPath, Any]:
    """(path, value) of ``"isr.rx.cost=12 us"``: the value as in a file, where the quotes may be left out.

    Raises:
        ValueError: it is no setting; says what would be one.
    """
    key, _, value = text.partition("=")
    path = (key.strip(),) if (key.strip(), value.strip()) in _TAKEN_AWAY else read_key(key)
    if path is None or not value.strip():
        raise ValueError(f'"{text}" is no setting; write a key of the model and its value, as in core.clock="24 MHz"')
    if path[0] == "variant":
        raise ValueError(f'"{text}" sets a variant; lay it over with --variant, and set what differs')
    try:
        return path, tomllib.loads(f"value = {value}")["value"]
    except (ValueError, RecursionError):
        bare = value.strip()
        if _BARE_LIST.fullmatch(bare):
            return path, [part.strip() for part in bare[1:-1].split(",")]
        return path, bare


def read_key(key: str) -> KeyPath | None:
    """The path of a key as in a file, ``isr.rx.cost`` or ``isr.rx.cost."source.a"``; None where it is none."""
    path, at = list[str](), 0
    while at < len(key) and (part := _KEY.match(key, at)) is not None:
        path.append(part.group(1) or part.group(2))
        at = part.end()
    return None if len(path) < 2 or at < len(key) else tuple(path)


def _clashes(paths: Sequence[KeyPath]) -> Iterator[Problem]:
    """Settings of keys that exclude each other."""
    for place, path in enumerate(paths):
        for other in paths[:place]:
            group = next((group for group in _groups(path[:-1]) if {path[-1], other[-1]} <= group), None)
            if group and path[:-1] == other[:-1] and path[-1] != other[-1]:
                keys = f"{'.'.join(other)} and {'.'.join(path)}"
                yield Problem(SETTING, "", f"{keys} exclude each other", "set one of them")


def nowhere(below: Mapping[str, Any], path: KeyPath, place: Place, key: str) -> list[Problem]:
    """What a setting names that is not there: a thing, or a place of a list; ``place`` and ``key`` say who names it."""
    things = below.get(path[0])
    if path[0] in SECTIONS:
        if not isinstance(things, Mapping):
            return [Problem(place, key, f"the model has no {path[0]} at all", "set a key of what it has")]
        if path[1] not in things:
            mend = did_you_mean(path[1], list(things), path[0])
            return [Problem(place, key, f'there is no {path[0]} "{path[1]}"', mend)]
    lower: Any = below
    for depth, part in enumerate(path):
        here = ".".join(path[:depth])
        if isinstance(lower, list):
            if not (part.isdecimal() and 1 <= int(part) <= len(lower)):
                return [Problem(place, key, f"{here} is a list of {len(lower)}", f"name one of it: {here}.1")]
            lower = lower[int(part) - 1]
        elif part.isdecimal() and depth > 2 and part != "1" and not isinstance(lower, Mapping):
            return [Problem(place, key, f"{here} is no list", f"set {here} itself")]
        elif isinstance(lower, Mapping) and part in lower:
            lower = lower[part]
        elif not part.isdecimal():
            break
    return []


def nested(path: KeyPath, value: Any) -> dict[str, Any]:
    """Tables in tables, with the value at the end of the path."""
    for part in reversed(path):
        value = {part: value}
    return dict(value)


def laid_over(raw: Mapping[str, Any], layers: Iterable[Layer]) -> dict[str, Any]:
    """The tables of a model, without its variants, with all layers laid over them in order."""
    made = {key: value for key, value in raw.items() if key != "variant"}
    for layer in layers:
        made = _merged(made, layer.tables, ())
    return made


def _groups(path: KeyPath) -> tuple[frozenset[str], ...]:
    return _ONE_WAY.get(path[0] if len(path) == 2 else path[-1] if path else "", ())


def _merged(below: Mapping[str, Any], above: Any, path: KeyPath) -> dict[str, Any]:
    made = dict(below)
    for key, value in above.items() if isinstance(above, Mapping) else ():
        if value is False and key not in _SWITCHES:
            made.pop(key, None)
            continue
        for group in _groups(path):
            if key in group:
                for other in group - {key}:
                    made.pop(other, None)
                if key in WAYS:
                    for other, ways in GOES_WITH.items():
                        if key not in ways and other not in above:
                            made.pop(other, None)
        lower = made.get(key)
        if isinstance(value, Mapping) and value and all(part.isdecimal() for part in value):
            made[key] = _one_of_a_list(lower, value, (*path, key))
        elif isinstance(value, Mapping) and isinstance(lower, Mapping):
            made[key] = _merged(lower, value, (*path, key))
        else:
            made[key] = value
    return made


def _one_of_a_list(lower: Any, value: Mapping[str, Any], path: KeyPath) -> Any:
    """A list with one of its places changed; what is no list is the first of one."""
    items = list(lower) if isinstance(lower, list) else [lower]
    for number, each in value.items():
        place = int(number) - 1
        if not 0 <= place < len(items):
            return value
        both = isinstance(each, Mapping) and isinstance(items[place], Mapping)
        items[place] = _merged(items[place], each, path) if both else each
    return items if isinstance(lower, list) else items[0]
