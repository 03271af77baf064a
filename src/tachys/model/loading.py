"""From the text of a model file to a System, or to every problem that the file has."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from pydantic import BaseModel, ValidationError

from tachys.errors import InputError, Place, Problem, Remark, did_you_mean, input_error
from tachys.files import read_text
from tachys.model.build import build
from tachys.model.costs import CostTable, read_cost_table
from tachys.model.keys import Key, key_of
from tachys.model.layers import SECTIONS, SETTING, Layer, laid_over, layers_of
from tachys.model.moving import remarks_of, set_anew
from tachys.model.names import check_references
from tachys.model.parsing import parse_toml
from tachys.model.places import KeyPath, key_lines
from tachys.model.report import Reporter
from tachys.model.schema import ModelFile
from tachys.model.system import System
from tachys.model.ticks import with_ticks

LARGEST_MODEL = 4 * 2**20
MOST_THINGS = {
    "source": 50_000, "unit": 10_000, "isr": 10_000, "buffer": 1_000, "step": 2_000, "need": 2_000, "probe": 2_000,
}  # fmt: skip
_LOOKED_AT = 40  # variants that are judged although another, or none, was asked for


Variants = str | Iterable[str] | None


def load_model(
    path: str | Path, variant: Variants = None, settings: Sequence[str] = (), costs: str | Path | None = None
) -> System:
    """Read a model file, with variants of it laid over it in the order given, and settings such as "core.wake=3 us".

    ``costs``: a file of measured times, laid over the variants and below the settings.

    Raises:
        InputError: the file cannot be read or holds errors; all of them, each with its line.
    """
    table = None if costs is None else read_cost_table(costs)
    return ModelText.load(path).system(variant, settings, table)


def read_model(text: str, file: str, variant: Variants = None, settings: Sequence[str] = ()) -> System:
    """As :func:`load_model`, from text; ``file`` is only shown."""
    return ModelText(text, file).system(variant, settings)


class ModelText:
    """The text of a model, parsed once: systems are made of it, as it stands or with changes laid over it.

    Raises:
        InputError: it is no TOML, or larger than any model is.
    """

    def __init__(self, text: str, file: str) -> None:
        self.file = file
        self.text = text
        self.raw = parse_toml(text, file)
        for section, most in MOST_THINGS.items():
            if isinstance(self.raw.get(section), dict) and len(self.raw[section]) > most:
                raise input_error(
                    file, f"{len(self.raw[section])} {section}s: at most {most}", "no chip has so many; split the model"
                )
        self._lines = key_lines(text)
        self._base: System | None = None

    @classmethod
    def load(cls, path: str | Path) -> ModelText:
        """The model of a file."""
        return cls(read_text(path, "model", LARGEST_MODEL), str(path))

    @property
    def variants(self) -> list[str]:
        """The names of its variants."""
        written = self.raw.get("variant")
        return list(written) if isinstance(written, dict) else []

    def merged(
        self, variant: Variants = None, settings: Sequence[str] = (), costs: CostTable | None = None
    ) -> dict[str, Any]:
        """The tables with changes laid over them, as they would be written."""
        return laid_over(self.raw, self._layers(variant, settings, costs))

    def _layers(
        self, variant: Variants, settings: Sequence[str] = (), costs: CostTable | None = None
    ) -> tuple[Layer, ...]:
        names = [variant] if isinstance(variant, str) else list(variant or ())
        return layers_of(self.raw, names, None if costs is None else costs.layer, settings, self.file)

    def system(self, variant: Variants = None, settings: Sequence[str] = (), costs: CostTable | None = None) -> System:
        """What the model means, with variants laid over it in the order given, costs over these and settings last.

        Raises:
            InputError: all that is wrong, each with its place. What is wrong in a variant that was not asked for is
                a remark of the system only.
        """
        layers = self._layers(variant, settings, costs)
        if not layers and self._base is not None:
            return self._base
        reading = _Reading(self, layers)
        system = reading.read()
        if system is None or reading.problems:
            raise InputError(reading.problems)
        if layers:
            measured = {} if costs is None else costs.values(system)
            return replace(system, laid_over=tuple(layer.name for layer in layers), measured=measured)
        broken = [remark for name in self.variants[:_LOOKED_AT] if (remark := self._broken(name))]
        self._base = replace(system, remarks=tuple(sorted([*system.remarks, *broken])))
        return self._base

    def _broken(self, name: str) -> Remark | None:
        """What is wrong with a variant that nobody asked for."""
        reading = _Reading(self, self._layers(name))
        reading.read()
        if not reading.problems:
            return None
        first = min(reading.problems)
        return Remark(
            first.place, "variant-broken", f"variant.{name}",
            f"{len(reading.problems)} wrong in it, as {first.key}: {first.wrong}",
            f"tachys bounds {self.file} --variant {name} lists all",
        )  # fmt: skip

    def base(self) -> System | None:
        """The model as it stands; None where that is wrong."""
        if self._base is None:
            reading = _Reading(self, ())
            system = reading.read()
            self._base = None if reading.problems else system
        return self._base

    def place(self, path: KeyPath) -> Place:
        """The place of a key, or of the nearest table around it."""
        for length in range(len(path), 0, -1):
            if path[:length] in self._lines:
                return Place(self.file, self._lines[path[:length]])
        return Place(self.file)


class _Reading:
    """One reading of a model with layers over it; ``problems`` are what is wrong."""

    def __init__(self, text: ModelText, layers: tuple[Layer, ...]) -> None:
        self.text = text
        self.layers = layers
        self.problems: list[Problem] = []
        self.taken = {(section, name): layer for layer in layers for section, name in layer.taken_away()}

    def read(self) -> System | None:
        """The system; it is only good where there are no problems."""
        merged = laid_over(self.text.raw, self.layers) if self.layers else self.text.raw
        tables = _validate(merged, self.complain)
        check_references(merged, self.complain)
        if tables is None:
            return None
        base, anew = self.text.base() if self._moves_clocks() else None, list[str]()
        if base is not None:
            tables, anew = set_anew(base, tables, self.layers)
        report = Reporter(self.complain, self.place)
        system = build(with_ticks(tables, report), report)
        if base is None or self.problems:
            return system
        more = remarks_of(base, system, merged, self.layers, anew, Place(self.text.file))
        return replace(system, remarks=tuple(sorted({*system.remarks, *more})))

    def _moves_clocks(self) -> bool:
        return any(
            {"clock", "core"} & layer.tables.keys()
            or any(layer.says(("source", name, "wanted")) for name in layer.tables.get("source", ()))
            for layer in self.layers
        )

    def _layer(self, path: KeyPath) -> Layer | None:
        """The last layer that says a key."""
        return next((layer for layer in reversed(self.layers) if layer.touches(path)), None)

    def place(self, path: KeyPath) -> Place:
        """Where a key stands: in the file, in a variant of it, or on the command line."""
        layer = self._layer(path)
        if layer is not None and layer.variant is None:
            return layer.place(path)
        return self.text.place(path if layer is None or layer.variant is None else ("variant", layer.variant, *path))

    def complain(self, path: KeyPath, wrong: str, mend: str) -> None:
        """Note what is wrong at a key of the merged model."""
        layer = self._layer(path)
        gone = next((thing for thing in self.taken if f'"{".".join(thing)}' in wrong), None) if layer is None else None
        if gone is not None:
            by, thing = self.taken[gone], ".".join(gone)
            where = self.text.place(("variant", by.variant, *gone)) if by.variant else SETTING
            key = f"variant.{by.variant}.{thing}" if by.variant else thing
            wrong = f"is taken away, and {'.'.join(path)} still names it"
            mend = f"take that away too ({'.'.join(path[:2])} = false), or let it name another"
            self.problems.append(Problem(where, key, wrong, mend))
            return
        key = ".".join(path)
        if layer is not None and layer.variant is not None:
            key = f"variant.{layer.variant}.{key}"
        elif layer is None and self.layers and not self._in_base(path, wrong):  # it is wrong with the change only
            wrong = f"{wrong}, with {' and '.join(each.name for each in self.layers)}"
        self.problems.append(Problem(self.place(path), key, wrong, mend))

    def _in_base(self, path: KeyPath, wrong: str) -> bool:
        reading = _Reading(self.text, ())
        reading.read()
        return any(each.key == ".".join(path) and each.wrong == wrong for each in reading.problems)


def _validate(raw: dict[str, Any], complain: Any) -> ModelFile | None:
    """The tables; where some are wrong, their problems are noted and the rest is looked at without them."""
    for _ in range(3):
        try:
            return ModelFile.model_validate(raw)
        except ValidationError as error:
            found = error.errors(include_url=False)
        meant = {(*fault["loc"][:-1], key.name) for fault in found if (key := _meant(fault)) is not None}
        for path, fault in _distinct(found):
            if fault["type"] != "missing" or fault["loc"] not in meant:
                complain(path, *_words(fault))
        raw = _without(raw, [fault["loc"] for fault in found])
    return None


def _distinct(faults: list[Any]) -> list[tuple[KeyPath, Any]]:
    """The faults with their key paths; of the ways in which one value may be written, only the nearest is blamed."""
    told: dict[KeyPath, Any] = {}
    for fault in faults:
        path = tuple(str(part) for part in fault["loc"] if not _is_type_name(str(part)))
        told.setdefault(path, fault)
    return [
        (path, fault)
        for path, fault in told.items()
        if not any(len(other) > len(path) and other[: len(path)] == path for other in told)
    ]


def _is_type_name(part: str) -> bool:
    return part.endswith(("Table", "]")) or part.startswith(("constrained-", "literal[")) or part in ("str", "bool")


def _without(raw: dict[str, Any], locations: Iterable[tuple[int | str, ...]]) -> dict[str, Any]:
    """The model without the tables that hold a fault, just enough to look at the rest."""
    kept = {key: dict(value) if isinstance(value, dict) else value for key, value in raw.items()}
    for location in locations:
        section = str(location[0])
        if section in (*SECTIONS, "core") and len(location) > 1 and isinstance(kept.get(section), dict):
            kept[section].pop(location[1], None)
            if tuple(location[:2]) == ("core", "levels"):
                kept["core"]["levels"] = 1 << 20  # no level is blamed for it
        else:
            kept.pop(section, None)
    kept["tachys"] = 1
    kept.setdefault("core", {}).setdefault("clock", "1 MHz")
    return kept


OUTSIDE = {
    "task": (
        "tasks of an operating system lie outside the language",
        "nearest is a routine on a level of its own below all interrupts: on what wakes the task, with its cost",
    ),
    "state": ("not known here any more", 'write [core] current = { run = "3.2 mA", sleep = "1.9 uA" }'),
    "mode": ("modes lie outside the language", "nearest is a [variant.NAME] for each, looked at one by one"),
}


def _words(fault: Any) -> tuple[str, str]:
    """(what is wrong, what would be right) of one fault that pydantic found."""
    kind, given = fault["type"], fault["input"]
    if kind == "extra_forbidden":
        path = fault["loc"]
        if len(path) == 1 and path[0] in OUTSIDE:
            return OUTSIDE[str(path[0])]
        meant = _meant(fault)
        if meant is not None:
            return "unknown key", f"write {_written(meant, given)} ({meant.meaning.rstrip('.')})"
        return "unknown key", did_you_mean(str(path[-1]), known_keys(path), "key here")
    if kind == "missing":
        key = fault["loc"][-1]
        return "is missing", 'add a table [core] with clock = "48 MHz"' if key == "core" else f"add {key} = …"
    if kind in ("int_type", "int_parsing", "int_from_float"):
        return f"{given!r} is no whole number", "a whole number is due, without quotes"
    if kind in ("bool_type", "bool_parsing"):
        return f"{given!r} is neither true nor false", "write true or false, without quotes"
    if kind == "value_error":
        wrong, _, mend = str(fault["ctx"]["error"]).partition("; ")
        return wrong, mend
    if kind == "literal_error":
        return f"{given!r} is not known here", f"one of {fault['ctx']['expected']}"
    if kind in ("model_type", "dict_type", "model_attributes_type"):
        path = tuple(part for part in map(str, fault["loc"]) if not _is_type_name(part))
        key = _key_at(path)
        mend = f"[{'.'.join(path)}] and keys below"
        if key is not None and key.example.startswith("{"):
            mend = _written(key, None)
        return f"{given!r} stands where a table is due", f"write {mend}"
    return f"{given!r}: {fault['msg'][0].lower()}{fault['msg'][1:]}", ""


def _meant(fault: Any) -> Key | None:
    """The key that is meant by an unknown one, if people call it so."""
    key = _key_at(fault["loc"]) if fault["type"] == "extra_forbidden" else None
    return None if key is None or key.name == fault["loc"][-1] else key  # that of a table around this one is none here


def _key_at(path: tuple[int | str, ...]) -> Key | None:
    """The key of its table that the last part of ``path`` names, or means."""
    return key_of(_table_of(path).__name__, str(path[-1]))


def _written(key: Key, given: object) -> str:
    """A key with what was ``given`` under another name, where that can stand there; with its example else."""
    if key.table == "(top)":
        return key.example
    if isinstance(given, str) and not key.example.startswith("{"):
        return f'{key.name} = "{given}"'
    whole = isinstance(given, int) and not isinstance(given, bool) and key.example.isdigit()
    return f"{key.name} = {given if whole else key.example}"


def known_keys(path: tuple[int | str, ...]) -> list[str]:
    """The keys that may stand where the last part of ``path`` stands."""
    return [field.alias or name for name, field in _table_of(path).model_fields.items()]


def _table_of(path: tuple[int | str, ...]) -> type[BaseModel]:
    """The table in which the last part of ``path`` stands."""
    table: type[BaseModel] = ModelFile
    for part in path[:-1]:
        field = next((f for n, f in table.model_fields.items() if part in (n, f.alias)), None)
        if field is None:
            named = str(part)
            nested = [model for model in _models_in(table.model_fields.values()) if model.__name__ == named]
            table = nested[0] if nested else table
            continue
        inner = _models_in([field])
        if inner:
            table = inner[0]
    return table


def _models_in(fields: Iterable[Any]) -> list[type[BaseModel]]:
    """The tables that the annotations of these fields mention."""
    found: list[type[BaseModel]] = []

    def walk(annotation: Any) -> None:
        if isinstance(annotation, type) and issubclass(annotation, BaseModel):
            found.append(annotation)
        for argument in getattr(annotation, "__args__", ()):
            walk(argument)

    for field in fields:
        walk(field.annotation)
    return found
