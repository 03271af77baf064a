"""Compiling beforehand: one process at a time, harmless whatever becomes of it; short plays do not wait for it."""

import contextlib
import os
import subprocess
import sys
import tempfile
import time

import pytest

from calling import tachys
from tachys import warming
from tachys.demo.project import model_text


@pytest.fixture
def started(tmp_path, monkeypatch):
    """The processes that would have been started, with the mark in a folder of its own."""
    found = []
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path))
    monkeypatch.setattr(subprocess, "Popen", lambda command, **_: found.append(command))
    return found


def test_only_one_is_at_it_and_one_that_died_is_followed(started, tmp_path):
    assert warming.begin()
    assert not warming.begin()
    (mark,) = tmp_path.iterdir()
    os.utime(mark, (time.time() - 3600,) * 2)
    assert warming.begin()
    assert len(started) == 2


def test_a_folder_that_cannot_be_written_and_a_process_that_does_not_start_are_no_matter(
    started, tmp_path, monkeypatch
):
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path / "none"))
    assert not warming.begin()
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path))

    def refuse(*_, **__):
        raise OSError

    monkeypatch.setattr(subprocess, "Popen", refuse)
    assert warming.begin()


def test_the_mark_goes_when_all_is_done_or_something_fails(tmp_path, monkeypatch):
    mark = tmp_path / "mark"
    monkeypatch.setattr(os, "nice", lambda _: 0)
    monkeypatch.setattr(sys, "argv", ["-c", str(mark)])
    for parts in ((lambda: "a",), (lambda: 1 / 0,)):
        mark.touch()
        monkeypatch.setattr(warming, "_PARTS", parts)
        with contextlib.suppress(ZeroDivisionError):
            warming.behind()
        assert not mark.exists()


def test_a_short_play_is_done_at_once_where_nothing_is_compiled_yet_and_says_the_same(started, tmp_path, monkeypatch):
    (tmp_path / "m.toml").write_text(model_text())
    call = ("simulate", "m.toml", "--for", "20 ms", "--format", "json")
    whole = tachys(tmp_path, *call)
    monkeypatch.setattr("tachys.simulation.engine.is_compiled", lambda: False)
    short = tachys(tmp_path, *call)
    assert (short.returncode, short.stdout, short.stderr) == (0, whole.stdout, "")
    assert len(started) == 1
