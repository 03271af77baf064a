"""The small projects that come with the tool: every command of a README runs, and every figure in its answer is shown."""

import json
import re
import shlex
import shutil

import pytest

from calling import tachys
from tachys.demo.project import examples

NAMES = [each.name for each in examples()]
SHOWN = re.compile(r"\*([^*]+)\*")


@pytest.fixture(scope="module")
def project(tmp_path_factory):
    """A project by its name, written once: some boards take long to play."""
    made = {}

    def of(name, folder):
        if name not in made:
            made[name] = tmp_path_factory.mktemp(name)
            assert tachys(made[name], "new", "made", "--like", name).returncode == 0
        shutil.copytree(made[name] / "made", folder)

    return of


def test_there_are_some_with_a_question_each():
    assert len(NAMES) >= 5
    assert all(each.question.endswith("?") for each in examples())


@pytest.mark.parametrize("name", NAMES)
def test_the_answer_is_what_the_commands_show(tmp_path, project, name):
    folder = tmp_path / "here"
    project(name, folder)
    text = (folder / "README.md").read_text()
    calls = [shlex.split(line) for line in text.splitlines() if line.startswith("    tachys ")]
    assert len(calls) == 2
    printed = ""
    for call in calls:
        done = tachys(folder, *call[1:])
        assert done.returncode in (0, 1), done.stderr
        printed += " ".join(done.stdout.split())
    answer = text.partition("Answer: ")[2].replace("\n", " ")
    figures = SHOWN.findall(answer)
    assert len(figures) >= 3
    assert [figure for figure in figures if figure not in printed] == []


def test_what_is_there_is_not_overwritten(tmp_path):
    assert tachys(tmp_path, "new", "here", "--like", NAMES[0]).returncode == 0
    (tmp_path / "here" / "model.toml").write_text("mine")
    done = tachys(tmp_path, "new", "here", "--like", NAMES[0])
    assert done.returncode == 2
    assert "differs from the example" in done.stderr
    assert (tmp_path / "here" / "model.toml").read_text() == "mine"
    done = tachys(tmp_path, "new", "there", "--like", "lom")
    assert done.returncode == 2
    assert 'did you mean "loom"' in done.stderr
    assert not (tmp_path / "there").exists()


@pytest.mark.parametrize("name", NAMES)
def test_a_model_begun_from_its_capture_is_not_refuted(tmp_path, project, name):
    project(name, tmp_path / "given")
    done = tachys(tmp_path, "new", "begun", "--from-capture", "given/board.vcd")
    assert done.returncode == 0, done.stderr
    done = tachys(tmp_path, "check", "begun/model.toml", "given/board.vcd")
    if name == "brooder":  # a capture from before the reset on: that all begins later it does not tell
        told = tachys(tmp_path, "check", "begun/model.toml", "given/board.vcd", "--format", "json")
        assert {finding["code"] for finding in json.loads(told.stdout)["findings"]} == {"comes-too-seldom"}
        return
    assert "nothing refuted" in done.stdout
