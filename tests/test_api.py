"""What programs call: typed, in picoseconds, with a short repr, and wrong arguments told in words."""

import contextlib
import doctest
import importlib
import re
import subprocess
import sys
from pathlib import Path

import pytest
from mypy import api as mypy

import tachys
from tachys.demo.project import write_project
from tachys.errors import InputError


@pytest.fixture(scope="module")
def project(tmp_path_factory):
    folder = tmp_path_factory.mktemp("api")
    write_project(folder)
    return folder


@pytest.fixture(scope="module")
def loaded(project):
    return tachys.load_model(project / "row_unit.toml"), tachys.read_capture(project / "faulty.vcd")


def test_the_example_of_the_package_runs(project):
    """As it stands in its docstring."""
    with contextlib.chdir(project):
        done = doctest.testmod(tachys)
    assert done.attempted > 8
    assert done.failed == 0


def test_names_are_found_by_completion_and_help():
    """``dir`` lists them, ``help`` shows their signatures; nothing else is there."""
    assert set(tachys.__all__) <= set(dir(tachys))
    assert "length" in importlib.import_module("inspect").signature(tachys.simulate).parameters
    with pytest.raises(AttributeError):
        tachys.nothing  # noqa: B018
    code = "import sys, tachys; sys.exit(any(heavy in sys.modules for heavy in ('numpy', 'numba', 'pydantic')))"
    assert subprocess.run([sys.executable, "-c", code]).returncode == 0


def test_public_names_are_typed(tmp_path):
    """mypy knows what each returns, and refuses what is wrong."""
    script = tmp_path / "user.py"
    script.write_text(
        "import tachys\nsystem = tachys.load_model('m.toml')\npaper = tachys.bounds(system)\n"
        "reveal_type(paper.isrs['a'].latency.seconds.most)\nreveal_type(tachys.simulate(system, '1 ms').stats('x'))\n"
        "found = tachys.check(system, tachys.read_capture('c.vcd'))\nreveal_type(found.needs['n'].verdict)\n"
        "reveal_type(tachys.inspect(found.capture))\nreveal_type(tachys.explain(found, 1).causes)\n"
        "reveal_type(tachys.draw(found))\ntachys.bounds('m.toml')\n"
    )
    out, _, _ = mypy.run(["--strict", "--cache-dir", str(Path(__file__).parents[1] / ".mypy_cache"), str(script)])
    told = re.findall(r'Revealed type is "(.*)"', out)
    for found, wanted in zip(
        told, ("float | None", "Stats | None", "Verdict", "Lines", "tuple[", "bytes"), strict=True
    ):
        assert wanted in found
        assert "Any" not in found.replace("Any, ...", "")
    assert 'Argument 1 to "bounds" has incompatible type "str"; expected "System"' in out


@pytest.mark.parametrize(
    ("call", "words"),
    [
        (
            lambda system, capture: tachys.bounds("m.toml"),
            r"bounds\(\): system: system is str 'm.toml'; a System is due",
        ),
        (lambda system, capture: tachys.simulate(system, "fast"), r'simulate\(\): length: "fast"'),
        (lambda system, capture: tachys.simulate(system, 1.5), "length is float 1.5; picoseconds, or text"),
        (lambda system, capture: tachys.simulate(system, 0), "a time above zero is due"),
        (lambda system, capture: tachys.simulate(system, "20 cycles"), "picoseconds, or text"),
        (lambda system, capture: tachys.simulate(system, "1 ms", bodies="mots"), 'did you mean "most"'),
        (lambda system, capture: tachys.simulate(system, "1 ms", runs=0), "a whole number from 1 on"),
        (lambda system, capture: tachys.check(capture, system), "a System is due: tachys.load_model"),
        (lambda system, capture: tachys.check(system, "c.vcd"), "a Capture is due: tachys.read_capture"),
        (lambda system, capture: tachys.load_model(7), "path is int 7; the path of a model is due"),
        (lambda system, capture: tachys.inspect(capture, begin="1 parsec"), "unknown unit"),
        (lambda system, capture: tachys.explain(tachys.check(system, capture), "releas"), 'did you mean "release"'),
        (lambda system, capture: tachys.explain(system, 1), r"what tachys.check\(\) returns is due"),
        (lambda system, capture: tachys.fit("m.toml", []), "at least one capture is due"),
        (lambda system, capture: tachys.draw(3), "a System, Bounds, a Capture or the result of a check is due"),
    ],
)
def test_wrong_arguments_are_told_in_words(loaded, call, words):
    """What was given, and what is due; no error from inside."""
    with pytest.raises(InputError, match=words):
        call(*loaded)


def test_results_are_short_and_tables_are_frames(loaded, project):
    """A repr fits a line; a frame has the figures of the table."""
    system, capture = loaded
    paper, played, found = tachys.bounds(system), tachys.simulate(system, "50 ms"), tachys.check(system, capture)
    lines = tachys.inspect(capture, end="100 ms")
    for each in (system, capture, capture.signals["D0"], paper, played, found, lines, paper.isrs["wheel"].latency):
        assert len(repr(each)) < 200
        assert "array" not in repr(each)
    assert paper.to_frame().set_index(["name", "quantity"]).loc[("isr.wheel", "latency"), "most"] == 22.333351e-6
    assert len(played.to_frame()) > 10
    assert list(found.to_frame()["verdict"]) == [need.verdict for need in found.needs.values()]
    assert list(lines.to_frame()["signal"]) == list(capture.signals)
    assert capture.to_frame()["time"].is_monotonic_increasing
    fitted = tachys.fit(project / "row_unit.toml", [capture])
    assert [change.key for change in fitted.changes] == ["step.log.guard"]
    assert tachys.draw(found).startswith(b"\x89PNG")
    assert tachys.explain(found, "release").begin < tachys.explain(found, "release").end
