"""Every key of a model in one sentence, of ``keys.txt``: for editors, for ``tachys words``, for docs/keys.md."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import Any

from msgspec import Struct

from tachys.files import titled_lines
from tachys.model import schema

_HEAD = """# Every key

One sentence, an example and the default of each key of a model file. `tachys words isr.cost` tells one, and editors
show it with `tachys schema`. How keys belong together, and what they do to bounds, play and checks, stands in
[model.md](model.md).
"""


class Key(Struct, frozen=True):
    """A key of a table, such as "isr.X", that a class of the schema reads: an example of a value, what it is, and
    which other words people have for it.
    """

    table: str
    read_by: str
    name: str
    example: str
    meaning: str
    also: tuple[str, ...] = ()

    @property
    def names(self) -> tuple[str, str]:
        """As it may be asked for: with the place of a name, and without."""
        whole = self.name if self.table == "(top)" else f"{self.table}.{self.name}"
        return whole, whole.replace(".X", "")

    @property
    def default(self) -> str:
        """What holds where it is left out; "must be given"; empty where nothing is then said."""
        fields = getattr(schema, self.read_by).model_fields
        field = next(field for name, field in fields.items() if (field.alias or name) == self.name)
        if field.is_required():
            return "must be given"
        value = field.default
        if isinstance(value, str):
            return value and f'"{value}"'
        return str(value).lower() if isinstance(value, bool | int) else ""


@cache
def all_keys() -> tuple[Key, ...]:
    """All of them, in the order of the file."""
    found = []
    for title, line in titled_lines(Path(__file__).with_name("keys.txt")):
        table, read_by = title.split(" ")
        name, example, meaning, *also = (part.strip() for part in line.split(" | "))
        found.append(Key(table, read_by, name, example, meaning, tuple(" ".join(also).split())))
    return tuple(found)


def key_of(read_by: str, word: str) -> Key | None:
    """The key of a table that is called so, by us or by other people."""
    return next((key for key in all_keys() if key.read_by == read_by and word in (key.name, *key.also)), None)


def keys_called(name: str) -> tuple[Key, ...]:
    """Those of that name: whole ("isr.cost"), or the last part of it ("cost"); else those that people call so."""
    ways = (lambda key: name in key.names, lambda key: key.name == name, lambda key: name in key.also)
    return next((found for way in ways if (found := tuple(filter(way, all_keys())))), ())


def described(made: dict[str, Any]) -> dict[str, Any]:
    """A JSON Schema of the model with a sentence for each key."""
    tables = {**made.get("$defs", {}), "ModelFile": made}
    for key in all_keys():
        property_ = tables.get(key.read_by, {}).get("properties", {}).get(key.name)
        if property_ is not None:
            property_["description"] = f"{key.meaning} Such as {key.example}"
    return made


def page() -> str:
    """All of it as a page (docs/keys.md)."""
    lines, table = [_HEAD], ""
    for key in all_keys():
        if key.table != table:
            table = key.table
            lines += [
                *[""] * (table != "(top)"),
                f"## {table}",
                "",
                "| key | such as | what it is | default |",
                "|---|---|---|---|",
            ]
        lines.append(f"| `{key.name}` | `{key.example}` | {key.meaning} | {key.default} |")
    return "\n".join(lines) + "\n"
