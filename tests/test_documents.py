"""What the documentation shows is what the program does: every command line, every output, every program in it."""

import doctest
import json
import re
import shlex
import subprocess
import sys
import tomllib

import click
import pytest

from calling import tachys
from documents import DOCS, ROOT, TOLD, blocks, commands_page, project, told_anew
from tachys.checking.compare.sentences import codes
from tachys.cli.main import calls
from tachys.cli.main import tachys as group
from tachys.glossary import find, page, terms
from tachys.model import keys, schema

PAGES = [*sorted(DOCS.glob("**/*.md")), ROOT / "README.md"]
_SPAN = re.compile(r"`(tachys [^`]*)`")
_VARIABLE = re.compile(
    r"\b(MODEL|CAPTURE|FILE|DIR|PORT|NAME|KEY|OUT|DUMP|HOST|ADDRESS|THING|COMMAND|WORD|SHARE|TIME)\b|…|/dev/"
)


@pytest.fixture(scope="module")
def place():
    with project() as folder:
        yield folder


def commands_of(path):
    """Every command line of a page: in its text, and in its blocks."""
    text = path.read_text()
    found = [line for kind in ("sh", "console") for body in blocks(text, kind) for line in body.splitlines()]
    found += [
        line for body in re.findall(r"^```\n(.*?)^```$", text, re.MULTILINE | re.DOTALL) for line in body.splitlines()
    ]
    lines = [line.removeprefix("$ ").partition("#")[0].strip() for line in found]
    return [*_SPAN.findall(text), *(line for line in lines if line.startswith("tachys ") and not line.endswith("\\"))]


def command_of(words):
    """(the command, what is called with it) of a command line; its name must be one."""
    with click.Context(group) as top:
        name = next((word for word in words[1:] if not word.startswith("-")), "")
        return (group.get_command(top, name) if name in group.list_commands(top) else None), words[2:]


@pytest.mark.parametrize("path", PAGES, ids=lambda path: path.stem)
def test_every_command_of_the_documentation_has_the_options_that_are_shown(path):
    for line in commands_of(path):
        if path.name == "commands.md":
            continue
        words = shlex.split(line.replace("…", " "))
        command, given = command_of(words)
        if command is None:
            assert words[1:] in ([], ["=", "1"]) or words[1] in ("--help", "--version", "--warm", "COMMAND"), line
            continue
        known = {name for option in command.params for name in option.opts} | {"--help"}
        assert {word.partition("=")[0] for word in given if word.startswith("--")} <= known, line


@pytest.mark.parametrize("name", TOLD)
def test_a_page_prints_what_its_commands_print(name, tmp_path):
    with project() as folder:
        text = (DOCS / name).read_text()
        assert told_anew(text, folder) == text, "python tests/documents.py writes it anew"


def test_pages_that_are_made_are_those_that_would_be_made_now():
    assert (DOCS / "commands.md").read_text() == commands_page(), "python tests/documents.py writes it anew"
    assert (DOCS / "words.md").read_text() == page()
    assert (DOCS / "keys.md").read_text() == keys.page()


def test_every_key_has_a_sentence_and_an_example_that_the_model_takes():
    told = {}
    for key in keys.all_keys():
        told.setdefault(key.read_by, []).append(key.name)
        table = getattr(schema, key.read_by)
        field = next(name for name, each in table.model_fields.items() if (each.alias or name) == key.name)
        if not re.fullmatch(r"\[+\w+(\.\w+)*\]+", key.example):
            value = tomllib.loads(f"value = {key.example}")["value"]
            table.__pydantic_validator__.validate_assignment(table.model_construct(), field, value)
        assert key.meaning.endswith(".")
    tables = {
        name: each for name, each in vars(schema).items() if isinstance(each, type) and issubclass(each, schema.Table)
    }
    assert {name: sorted(names) for name, names in told.items()} == {
        name: sorted(each.alias or field for field, each in table.model_fields.items())
        for name, table in tables.items()
        if table.model_fields
    }
    assert tachys(DOCS, "words", "isr.cost").stdout.startswith("A key of a model\n   isr.X.cost")
    described = json.loads(tachys(DOCS, "schema").stdout)
    assert described["$defs"]["IsrTable"]["properties"]["cost"]["description"].startswith("CPU time of the body")


def test_what_runs_on_the_files_of_the_demo_runs(place):
    """Those that name no variable, also of the README; what they print is in the goldens and on the screenshots."""
    seen = 0
    for path in PAGES:
        for line in dict.fromkeys(commands_of(path)):
            words = shlex.split(line)
            there = {each.name for each in place.iterdir()}
            files = [word for word in words if re.fullmatch(r"[\w.-]+\.(toml|vcd|csv|events)", word)]
            if path.name in (*TOLD, "commands.md") or not files or not set(files) <= there or _VARIABLE.search(line):
                continue
            if {"record", "--cluster"} & set(words) or "--write" in words:
                continue
            done = tachys(place, *words[1:])
            assert done.returncode in (0, 1), (path.name, line, done.stderr)
            seen += 1
    assert seen > 15


@pytest.mark.parametrize("name", list(calls()))
def test_the_calls_at_the_end_of_each_help_run(name, tmp_path):
    with click.Context(group) as top:
        told = tachys(tmp_path, name, "--help").stdout
        assert set(group.list_commands(top)) == set(calls())
    assert len(calls()[name]) == 2
    with project() as folder:
        for line in calls()[name]:
            assert line in told
            words = shlex.split(line)[1:]
            if name == "record" or "--board" in words:
                command, given = command_of(["tachys", *words])
                assert {word for word in given if word.startswith("--")} <= {o for p in command.params for o in p.opts}
                continue
            done = tachys(folder, *words)
            assert done.returncode in (0, 1), (line, done.stderr)


def test_the_programs_of_the_documentation_run(place, monkeypatch):
    monkeypatch.chdir(place)
    text = (DOCS / "python.md").read_text()
    runner = doctest.DocTestRunner()
    runner.run(doctest.DocTestParser().get_doctest(text, {}, "python.md", "python.md", 0))
    assert runner.summarize().failed == 0
    namespace = {}
    for cell in json.loads((DOCS / "notebook.ipynb").read_text())["cells"]:
        if cell["cell_type"] == "code":
            exec("".join(cell["source"]), namespace)
    assert [outcome.holds for outcome in namespace["swept"].outcomes] == [True] * 3 + [False] * 4


def test_every_finding_is_documented_and_a_word():
    text = (DOCS / "findings.md").read_text()
    for code in codes():
        shown = code if code in text else re.sub(r"^\w+(?=-(beyond|below)-bound)", "…", code)
        assert f"`{shown}`" in text, code


def test_every_warning_is_a_word():
    places = ("worstcase/lint.py", "model/moving.py", "model/flags.py", "model/stopping.py")
    text = "".join((ROOT / "src" / "tachys" / place).read_text() for place in places)
    seen = set(re.findall(r'"([a-z]+(?:-[a-z]+)+)"', text))
    assert {term.word for term in terms()["Warnings about a model"]} >= seen
    assert len(seen) > 15


def test_words_are_found_by_every_name_and_a_wrong_one_is_told(tmp_path):
    for part in terms().values():
        for term in part:
            assert find(term.word) is term
            assert all(find(name) is not None for name in term.names)
            assert term.meaning.endswith(".")
    assert "worst-case execution time" in tachys(tmp_path, "words", "WCET").stdout
    assert tachys(tmp_path, "words", "held", "off").stdout.startswith("held off")
    assert "What to do: shorten it" in tachys(tmp_path, "words", "cost-longer").stdout
    assert 'did you mean "jitter"?' in tachys(tmp_path, "words", "jiter").stderr
    every = tachys(tmp_path, "words")
    assert every.returncode == 0
    assert max(map(len, every.stdout.splitlines())) <= 100


def test_the_script_for_ci_ends_with_the_worst_status_and_leaves_its_artefacts(place):
    def run(captures, **more):
        command = f"{shlex.quote(sys.executable)} -c 'from tachys.entry import main; main()' \"$@\""
        (place / "tachys.sh").write_text(f"#!/bin/sh\nexec {command}\n")
        (place / "tachys.sh").chmod(0o755)
        given = {
            "MODEL": "row_unit.toml",
            "CAPTURES": captures,
            "TACHYS": "./tachys.sh",
            "PATH": "/usr/bin:/bin",
            **more,
        }
        script = ["sh", str(DOCS / "ci" / "timing.sh")]
        return subprocess.run(script, cwd=place, env=given, capture_output=True, text=True, timeout=300)

    (place / "before").mkdir()
    good = tachys(place, "check", "row_unit.toml", "m*.csv", "--format", "json")
    (place / "before" / "board.json").write_text(good.stdout)
    bad = run("f*.vcd", BASELINE="before")
    assert bad.returncode == 1, bad.stderr
    assert "worse: need.release was met, is missed" in bad.stdout
    made = {each.name for each in (place / "timing").iterdir()}
    assert made == {"paper.xml", "paper.json", "board.xml", "board.json", "page.html"}
