"""Single values into the text of a model: everything else stays as it is, comments too."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import tomlkit
from tomlkit.items import Item


def with_values(text: str, values: Mapping[tuple[str, ...], Any]) -> str:
    """The text with other values at these keys, whose tables it has."""
    document = tomlkit.parse(text)
    for path, value in values.items():
        table: Any = document
        for part in path[:-1]:
            table = table[part]
        old = table.get(path[-1])
        space, comment = (old.trivia.comment_ws, old.trivia.comment) if isinstance(old, Item) else ("", "")
        table[path[-1]] = value
        item = table.item(path[-1]) if hasattr(table, "item") else table[path[-1]]
        if comment and isinstance(item, Item):
            item.trivia.comment_ws, item.trivia.comment = space, comment
    return tomlkit.dumps(document)
