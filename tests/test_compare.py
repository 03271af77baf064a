"""Variants, settings, models and captures beside each other."""

import json

import pytest

from calling import tachys
from tachys.model.loading import ModelText
from tachys.trying.comparing import Column, compare, comparison_data, comparison_of
from tachys.worstcase.analysis import bounds


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    folder = tmp_path_factory.mktemp("compare")
    assert tachys(folder, "demo", ".").returncode == 0
    return folder


def column(text, name, variant=None, settings=()):
    return Column(name, bounds(text.system(variant, settings)), text.merged(variant, settings))


def data_of(place, *arguments):
    done = tachys(place, "compare", *arguments, "--format", "json")
    return done.returncode, json.loads(done.stdout)


def value(data, about, quantity, column=-1):
    return next(r["values"][column] for r in data["rows"] if (r["about"], r["quantity"]) == (about, quantity))


def test_what_differs_in_the_models_stands_first_and_each_figure_is_that_of_bounds(place):
    text = ModelText.load(place / "row_unit.toml")
    found = compare([column(text, "base"), column(text, "short", "short_write")])
    assert [(each.key, each.values) for each in found.changed] == [("step.log.guard.for", ("22 us", "11 us"))]
    assert {row.about for row in found.rows if row.differs} == {
        "need.release", "isr.wheel"}  # no other routine's bound has that guard in it  # fmt: skip
    for place_, variant in enumerate((None, "short_write")):
        paper = bounds(text.system(variant))
        rows = {(row.about, row.quantity): row.values[place_] for row in found.rows}
        for name, isr in paper.isrs.items():
            assert rows[f"isr.{name}", "latency"] == isr.latency.most / 1e12
        for name, need in paper.needs.items():
            assert rows[f"need.{name}", "bound"] == need.need.given(need.bound)


def test_a_slower_clock_does_not_look_better(place):
    """The loop's share falls if the tick becomes 2 ms: it is set anew instead, and that is shown."""
    status, data = data_of(place, "row_unit.toml", "--variant", "half_clock")
    assert status == 0
    assert data["columns"] == ["as it stands", "half_clock"]
    assert value(data, "load", "long run") > value(data, "load", "long run", 0)
    assert value(data, "source.tick", "period") == value(data, "source.tick", "period", 0)
    told = {each["key"]: each["values"] for each in data["changed"]}
    assert told["source.tick: set to"] == ["prescale 24, count 1000", "prescale 24, count 500"]
    shown = tachys(place, "compare", "row_unit.toml", "--variant", "half_clock")
    assert "written in time" in shown.stderr
    assert max(map(len, shown.stdout.splitlines())) <= 100


def test_the_status_is_that_of_the_last_column_and_settings_lie_over_the_last_variant(place):
    guard = "step.log.guard.for=90 us"
    status, data = data_of(place, "row_unit.toml", "--variant", "half_clock+short_write", "--set", guard)
    assert data["columns"] == ["as it stands", "half_clock + short_write", f"half_clock + short_write, {guard}"]
    assert status == 0  # at risk on paper, and nothing was seen
    assert value(data, "need.release", "verdict") == "at risk"
    assert data_of(place, "row_unit.toml", "faulty.vcd", "--variant", "short_write")[0] == 1
    assert data_of(place, "row_unit.toml", "mended.csv", "--variant", "short_write")[0] == 0


def test_captures_and_what_is_played_stand_beside_the_bounds(place):
    status, data = data_of(place, "row_unit.toml", "faulty.vcd", "mended.csv", "--play", "20 ms")
    assert (status, data["columns"]) == (0, ["faulty.vcd", "mended.csv"])
    assert data["changed"] == []
    assert value(data, "need.release", "verdict", 0) == "missed"
    assert value(data, "isr.wheel", "latency, seen") < value(data, "isr.wheel", "latency")
    assert value(data, "isr.wheel", "latency, played") <= value(data, "isr.wheel", "latency")


def test_a_comparison_that_was_kept_is_a_column_of_the_next(place):
    *_, data = data_of(place, "row_unit.toml", "--variant", "short_write")
    assert comparison_data(comparison_of(data))["rows"] == data["rows"]
    (place / "kept.json").write_text(json.dumps(data))
    _, now = data_of(place, "row_unit.toml", "--baseline", "kept.json")
    assert now["columns"] == ["baseline, short_write", "as it stands"]
    assert value(now, "need.release", "bound", 0) == value(data, "need.release", "bound")
    (place / "kept.json").write_text('{"format": "tachys.check/1"}')
    refused = tachys(place, "compare", "row_unit.toml", "--baseline", "kept.json")
    assert (refused.returncode, refused.stderr) == (
        2, "kept.json: is no comparison; write it with tachys compare … --format json > FILE\n")  # fmt: skip


def test_two_models_and_a_picture(place):
    text = (place / "row_unit.toml").read_text()
    (place / "b.toml").write_text(
        text.replace("[isr.hopper]\non", "[isr.level]\non").replace("isr.hopper", "isr.level")
    )
    done = tachys(place, "compare", "row_unit.toml", "b.toml", "-o", "both.png")
    assert done.returncode == 0
    assert "isr.level.cost" in done.stdout
    assert (place / "both.png").read_bytes().startswith(b"\x89PNG")


@pytest.mark.parametrize(("arguments", "told"), [
    (("row_unit.toml",), "there is one column only"),
    (("faulty.vcd",), "no model is named: faulty.vcd is taken for a capture; a model ends in .toml"),
    (("row_unit.toml", "--variant", "nope"), 'there is no variant "nope"'),
    (("row_unit.toml", "--set", "isr.weel.cost=1 us"), 'there is no isr "weel"; did you mean "wheel"?'),
])  # fmt: skip
def test_what_cannot_be_compared(place, arguments, told):
    done = tachys(place, "compare", *arguments)
    assert (done.returncode, done.stderr.count("\n")) == (2, 1)
    assert told in done.stderr
