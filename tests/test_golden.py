"""What every command prints stays as it is, unless it is changed on purpose (``python tests/golden.py``)."""

import json
import re

import pytest
from pydantic import TypeAdapter

from golden import KEPT, differing, inputs, printed
from tachys.outputs import OUTPUTS, output_schema, output_type

INPUTS = {title: (files, calls) for title, files, calls in inputs()}


@pytest.mark.parametrize("title", INPUTS)
def test_what_is_printed_is_what_was_kept(title):
    files, calls = INPUTS[title]
    assert differing((KEPT / f"{title}.txt").read_text(), printed(files(), calls)) == ""


def test_what_is_printed_as_data_is_what_its_schema_says():
    """Every JSON document that was kept, and every format that has a schema."""
    seen = set()
    for path in KEPT.glob("*.txt"):
        for section in path.read_text().split("\n$ tachys "):
            first = section.find("\n{")
            if "--format json" not in section.partition("\n")[0] or first < 0:
                continue
            data, _ = json.JSONDecoder().raw_decode(section[first + 1 :])
            name = re.fullmatch(r"tachys\.(\w+)/1", data["format"]).group(1)
            if name in OUTPUTS:
                assert output_schema(name)["additionalProperties"] is False
                TypeAdapter(output_type(name)).validate_python(data, strict=True)
                seen.add(name)
    assert seen == OUTPUTS.keys() - {"levels"}
