"""What every command prints stays as it is, unless it is changed on purpose (``python tests/golden.py``)."""

import json
import re

import pytest
from pydantic import TypeAdapter

from golden import CAPTURES, KEPT, MODELS, differing, inputs, printed
from tachys.compiled import only
from tachys.outputs import OUTPUTS, output_schema, output_type

# one call of each command that has work for what may be compiled
UNCOMPILED = [CAPTURES[0], ("inspect", "c.vcd"), ("check", "m.toml", "a.vcd", "b.csv"), MODELS[-1]]
PLAYED = ("example", "every_key", "half_clock")  # others have events every few ns
INPUTS = {title: (files, calls) for title, files, calls in inputs()}


@pytest.mark.parametrize("title", INPUTS)
def test_what_is_printed_is_what_was_kept_whatever_is_compiled(title):
    files, calls = INPUTS[title]
    kept = (KEPT / f"{title}.txt").read_text()
    assert differing(kept, printed(files(), calls)) == ""
    some = [call for call in calls if call in UNCOMPILED and (call != MODELS[-1] or title in PLAYED)]
    with only(plain=True):
        assert differing(only_of(kept, some), printed(files(), some).rstrip()) == ""


def only_of(kept, calls):
    """What was kept of some of the calls."""
    heads = {f"$ tachys {' '.join(call)}" for call in calls}
    sections = re.split(r"(?m)^(?=\$ tachys )", kept)
    return "".join(each for each in sections if each.partition("\n")[0] in heads).rstrip()


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
