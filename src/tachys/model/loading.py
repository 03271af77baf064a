"""From the text of a model file to a System, or to every problem that the file has."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from tachys.errors import InputError, Place, Problem, did_you_mean, input_error
from tachys.model.build import build
from tachys.model.names import check_references
from tachys.model.parsing import parse_toml
from tachys.model.places import KeyPath, key_lines
from tachys.model.report import Reporter
from tachys.model.schema import ModelFile
from tachys.model.system import System
from tachys.model.variants import with_variant, written_at

LARGEST_MODEL = 4 * 2**20
MOST_THINGS = {"source": 50_000, "unit": 10_000, "isr": 10_000, "step": 2_000, "need": 2_000, "probe": 2_000}
_SECTIONS = ("clock", "source", "unit", "isr", "step", "need", "probe", "state")
_LOOKED_AT = 40  # variants that are judged although another, or none, was asked for


def load_model(path: str | Path, variant: str | None = None) -> System:
    """Read a model file, with one of its variants laid over it if that is asked for.

    Raises:
        InputError: the file cannot be read or holds errors, in any variant; all of them, each with its line.
    """
    return read_model(read_text(path, "model", LARGEST_MODEL), str(path), variant)


def read_text(path: str | Path, what: str, largest: int) -> str:
    """The text of a file that should be a ``what`` of at most ``largest`` bytes."""
    name = str(path)
    try:
        with open(path, "rb") as stream:
            data = stream.read(largest + 1)
    except FileNotFoundError:
        raise input_error(name, "there is no such file", f"name a {what} file") from None
    except IsADirectoryError:
        raise input_error(name, "this is a directory", f"name a {what} file in it") from None
    except (OSError, ValueError) as error:
        raise input_error(name, f"cannot be read: {getattr(error, 'strerror', error)}", f"name a {what} file") from None
    if len(data) > largest:
        raise input_error(name, f"is larger than {largest // 2**20} MiB", f"no {what} file is that large")
    if not data.strip():
        raise input_error(name, "the file is empty", f"name a {what} file")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise input_error(name, "this is not text in UTF-8", f"name a {what} file", line=line) from None
    if "\0" in text:
        line = text.count("\n", 0, text.index("\0")) + 1
        raise input_error(name, "holds NUL bytes: this is no text file", f"name a {what} file", line=line)
    return text


def read_model(text: str, file: str, variant: str | None = None) -> System:
    """As :func:`load_model`, from text; ``file`` is only shown."""
    raw = parse_toml(text, file)
    for section, most in MOST_THINGS.items():
        if isinstance(raw.get(section), dict) and len(raw[section]) > most:
            raise input_error(
                file, f"{len(raw[section])} {section}s: at most {most}", "no chip has so many; split the model"
            )
    places = _Places(file, key_lines(text))
    written = raw.get("variant")
    known = list(written) if isinstance(written, dict) else []
    if variant is not None and variant not in known:
        raise input_error(file, f'there is no variant "{variant}"', did_you_mean(variant, known, "variant"))
    problems: list[Problem] = []
    systems = {name: _read(raw, name, places, problems) for name in dict.fromkeys([variant, None, *known[:_LOOKED_AT]])}
    system = systems[variant]
    if problems or system is None:
        raise InputError(problems)
    return system


def _read(raw: dict[str, Any], variant: str | None, places: _Places, problems: list[Problem]) -> System | None:
    """The System of one variant (None: of the model as it stands); what is wrong is added to ``problems``."""
    known = {(problem.key, problem.wrong) for problem in problems}

    def at(path: KeyPath) -> KeyPath:
        return path if variant is None else written_at(path, variant, raw)

    def complain(path: KeyPath, wrong: str, mend: str) -> None:
        if (".".join(path), wrong) not in known:
            if variant is not None and at(path) == path:  # it stands elsewhere, and is wrong with the variant only
                wrong = f'{wrong}, with variant "{variant}"'
            problems.append(Problem(places.of(at(path)), ".".join(at(path)), wrong, mend))

    merged = raw if variant is None else with_variant(raw, variant)
    tables = _validate(merged, complain)
    check_references(merged, complain)
    return None if tables is None else build(tables, Reporter(complain, lambda path: places.of(at(path))))


class _Places:
    def __init__(self, file: str, lines: Mapping[KeyPath, int]) -> None:
        self._file = file
        self._lines = lines

    def of(self, path: KeyPath) -> Place:
        """The place of a key, or of the nearest table around it."""
        for length in range(len(path), 0, -1):
            if path[:length] in self._lines:
                return Place(self._file, self._lines[path[:length]])
        return Place(self._file)


def _validate(raw: dict[str, Any], complain: Any) -> ModelFile | None:
    """The tables; where some are wrong, their problems are noted and the rest is looked at without them."""
    for _ in range(3):
        try:
            return ModelFile.model_validate(raw)
        except ValidationError as error:
            found = error.errors(include_url=False)
        for path, fault in _distinct(found):
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
    return part.endswith(("Table", "]")) or part in ("str", "bool")


def _without(raw: dict[str, Any], locations: Iterable[tuple[int | str, ...]]) -> dict[str, Any]:
    """The model without the tables that hold a fault, just enough to look at the rest."""
    kept = {key: dict(value) if isinstance(value, dict) else value for key, value in raw.items()}
    for location in locations:
        section = str(location[0])
        if section in (*_SECTIONS, "core") and len(location) > 1 and isinstance(kept.get(section), dict):
            kept[section].pop(location[1], None)
        else:
            kept.pop(section, None)
    kept["tachys"] = 1
    kept.setdefault("core", {}).setdefault("clock", "1 MHz")
    return kept


def _words(fault: Any) -> tuple[str, str]:
    """(what is wrong, what would be right) of one fault that pydantic found."""
    kind, given = fault["type"], fault["input"]
    if kind == "extra_forbidden":
        path = fault["loc"]
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
        return f"{given!r} stands where a table is due", f"write [{'.'.join(map(str, fault['loc']))}] and keys below"
    return f"{given!r}: {fault['msg'][0].lower()}{fault['msg'][1:]}", ""


def known_keys(path: tuple[int | str, ...]) -> list[str]:
    """The keys that may stand where the last part of ``path`` stands."""
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
    return [field.alias or name for name, field in table.model_fields.items()]


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
