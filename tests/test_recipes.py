"""The recipes of the documentation are models that load, and say what their words say."""

import re
from pathlib import Path

import pytest

from tachys.model.loading import read_model
from tachys.worstcase.analysis import bounds

TEXT = (Path(__file__).parent.parent / "docs" / "recipes.md").read_text()
HEAD = 'tachys = 1\n[core]\nclock = "48 MHz"\nlevels = 2\nentry = "12 cycles"\nexit = "10 cycles"\n'
BYTE = '[source.byte]\nserial.baud = "57600 Bd"\n'
BLOCKS = re.findall(r"## ([^\n]*)\n.*?```toml\n(.*?)```", TEXT, re.DOTALL)


@pytest.mark.parametrize(("title", "piece"), BLOCKS, ids=[title for title, _ in BLOCKS])
def test_a_recipe_is_a_model(title, piece):
    text = HEAD + ("" if "[source.byte]" in piece else BYTE)
    text += '[loop]\noverhead = "1 us"\n' if "[step." in piece else ""
    text += '[clock.baud]\nrate = "9600 Hz"\n' if "@baud" in piece else ""
    found = bounds(read_model(text + piece, "recipe.toml"))
    if title == "My print is slow":
        assert round(found.steps["print"].duration.most / 1e9, 1) == 15.6
    if title == "No logic analyser":
        assert (found.buffers["marks"].level, found.buffers["marks"].lost) == (91, False)
    if title == "A bus whose routine sends the next byte":
        assert (found.buffers["bytes"].level, found.isrs["bus"].lost) == (8, False)
        assert found.needs["fresh"].proved
    if title == "A double buffer":
        assert (found.buffers["samples"].level, found.buffers["samples"].lost) == (32, False)
    if title == "The line is quiet after the last byte":
        assert found.buffers["rx"].reaction.most > 7 * 700_000_000
        assert not found.isrs["rx"].lost
