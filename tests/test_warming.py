"""Compiling beforehand: one process at a time, harmless whatever becomes of it; short plays do not wait for it."""

import contextlib
import os
import subprocess
import sys
import tempfile
import time

import numpy as np
import pytest

from calling import tachys
from tachys import compiled, native, warming
from tachys.capture import scanning, vcd_scan
from tachys.compiled import zeros, zeros_of
from tachys.demo.project import model_text
from tachys.simulation import kernel, layout


@pytest.fixture
def started(tmp_path, monkeypatch):
    """The processes that would have been started, with the mark in a folder of its own."""
    found = []
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path))
    monkeypatch.setattr(subprocess, "Popen", lambda command, **_: found.append(command))
    return found


def nothing_kept(monkeypatch):
    """As after an install."""
    monkeypatch.setattr(compiled.Kernel, "is_kept", lambda *_: False)
    monkeypatch.setattr(kernel.play, "_loaded", {})
    monkeypatch.setattr(compiled._Choice, "done", 0)
    monkeypatch.setattr(compiled._Choice, "missed", False)


def test_only_one_is_at_it_and_one_that_died_is_followed(started, tmp_path, monkeypatch):
    nothing_kept(monkeypatch)
    assert warming.begin()
    assert not warming.begin()
    (mark,) = tmp_path.iterdir()
    os.utime(mark, (time.time() - 3600,) * 2)
    assert warming.begin()
    assert len(started) == 2


def test_a_folder_that_cannot_be_written_and_a_process_that_does_not_start_are_no_matter(
    started, tmp_path, monkeypatch
):
    nothing_kept(monkeypatch)
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path / "none"))
    assert not warming.begin()
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path))

    def refuse(*_, **__):
        raise OSError

    monkeypatch.setattr(subprocess, "Popen", refuse)
    assert warming.begin()


def test_the_mark_goes_when_all_is_done_and_stays_a_while_where_that_was_of_no_use(tmp_path, monkeypatch):
    mark = tmp_path / "mark"
    monkeypatch.setattr(os, "nice", lambda _: 0)
    monkeypatch.setattr(sys, "argv", ["-c", str(mark)])
    for parts, done in (((lambda: "a",), True), ((lambda: "a",), False), ((lambda: 1 / 0,), False)):
        mark.touch()
        monkeypatch.setattr(warming, "_PARTS", parts)
        monkeypatch.setattr(warming, "is_done", lambda done=done: done)
        with contextlib.suppress(ZeroDivisionError):
            warming.behind()
        assert mark.exists() is not done


def test_a_short_play_is_done_at_once_where_nothing_is_compiled_yet_and_says_the_same(started, tmp_path, monkeypatch):
    (tmp_path / "m.toml").write_text(model_text())
    call = ("simulate", "m.toml", "--for", "20 ms", "--format", "json")
    whole = tachys(tmp_path, *call)
    nothing_kept(monkeypatch)
    short = tachys(tmp_path, *call)
    assert (short.returncode, short.stdout, short.stderr) == (0, whole.stdout, "")
    assert not started  # so little needs no compiler
    call = ("simulate", "m.toml", "--for", "1 s", "--bodies", "most")
    assert tachys(tmp_path, *call).returncode == 0
    assert len(started) == 1


def test_much_is_done_by_what_is_compiled_and_little_plainly(monkeypatch):
    ran = []
    monkeypatch.delitem(sys.modules, "llvmlite", raising=False)  # as other tests may have left it
    some = compiled.Kernel(lambda items: len(items), 1, None)
    some.__dict__["plain"] = lambda items: ran.append("plain")
    monkeypatch.setattr(compiled.Kernel, "native", lambda *_: lambda items: ran.append("made"))
    for kept, sizes, due in (
        (False, (1000, compiled.ENOUGH), ["plain", "made"]),
        (False, (compiled.ENOUGH - 1, 1, 1), ["plain", "plain", "made"]),
        (True, (compiled.LITTLE, 1), ["plain", "made"]),
    ):
        monkeypatch.setattr(compiled._Choice, "done", 0)
        monkeypatch.setattr(compiled._Choice, "missed", False)
        monkeypatch.setattr(compiled.Kernel, "is_kept", lambda *_, kept=kept: kept)
        for size in sizes:
            some(np.zeros(size))
        assert ran == due
        assert compiled.is_missed() is (compiled.ENOUGH - 1 in sizes)
        ran.clear()


def test_a_checked_view_is_neither_read_nor_written_outside():
    @compiled.kernel()
    def at(items, place):
        items[place] = items[place] + 1

    items = np.zeros(3, np.int64)
    with compiled.checked():
        at(items, 2)
        for wrong in (-1, 3):
            with pytest.raises(IndexError, match=f"read at {wrong} of 3"):
                at(items, wrong)
    assert items.tolist() == [0, 0, 1]


@compiled.kernel()
def spread(items, times, more, factor, out):
    """Items repeated, and a number of each kind."""
    found, odd = zeros(len(items) * times), zeros_of(len(items), np.bool_)
    for place in range(len(found)):
        found[place] = items[place // times]
    for place in range(len(items)):
        odd[place] = items[place] & 1
        out[place] += items[place]
    return found, odd, factor * more[0], len(items) > 2


def test_machine_code_takes_and_gives_what_plain_code_does(tmp_path, monkeypatch):
    (tmp_path / "file").touch()  # nothing can be kept in it
    monkeypatch.setattr(compiled.Kernel, "_folders", lambda _: (tmp_path / "file", tmp_path / "home"))
    told = []
    for plain in (True, False, False):
        monkeypatch.setattr(spread, "_loaded", {})  # the second time from the file
        whole = np.arange(12)
        with compiled.only(plain=plain):
            found = spread(whole[::4], np.int64(2), np.array([3], np.uint8), np.float64(0.5), whole[1::4])
            told.append(([np.asarray(each).tolist() for each in found], whole.tolist()))
    assert told[0] == told[1] == told[2]
    assert told[0][0] == [[0, 0, 4, 4, 8, 8], [False] * 3, 1.5, True]
    assert told[0][1][1::4] == [1, 9, 17]
    assert [each.name.partition("-")[0] for each in (tmp_path / "home").iterdir()] == ["test_warming.spread"]
    for many in (1 << 50, 1 << 40):  # more than can be, than there is
        with compiled.only(plain=False), pytest.raises(MemoryError):
            spread(np.arange(1 << 10), many, np.zeros(1, np.uint8), 0.5, np.zeros(1 << 10, np.int64))

    def interrupted(*_):
        raise KeyboardInterrupt

    monkeypatch.setattr(native.np, "zeros", interrupted)
    with compiled.only(plain=False), pytest.raises(KeyboardInterrupt):
        spread(whole, 2, whole.view(np.uint8), 0.5, whole)


def test_machine_code_that_is_cut_short_or_made_elsewhere_is_not_loaded(tmp_path, monkeypatch):
    machine, folder = native.Machine("name", "i", "q", b"\0code"), tmp_path / "deep"
    assert native.keep(machine, folder, "a.b-0")
    monkeypatch.setattr(native, "_processor", lambda: "another")
    assert native.keep(machine, folder, "a.b-0")
    assert native.keep(machine, folder, "a.b-1")
    assert len(list(folder.iterdir())) == 2  # what it was before is gone, that of the other processor stays
    ((takes, path),) = native.files_of(folder, "a.b-1")
    assert (takes, native.kept(path)) == ("i", machine)
    assert not list(native.files_of(folder, "a.b-0"))
    whole = path.read_bytes()
    for wrong in (whole[:-1], whole[:9], b"", b"{}\n", b"[]\n", whole.replace(b"name", b"game")):
        path.write_bytes(wrong)
        assert native.kept(path) is None
    (tmp_path / "file").touch()
    assert not native.keep(machine, tmp_path / "file", "a.b-1")


def test_what_is_compiled_is_loaded_without_the_compiler(tmp_path):
    (tmp_path / "m.toml").write_text(model_text())
    code = (
        "import sys; from tachys import api, compiled\n"
        "with compiled.only(plain=False): api.simulate(api.load_model('m.toml'), 10**9)\n"
        "sys.exit('numba' in sys.modules)"
    )
    first, second = (subprocess.run([sys.executable, "-c", code], cwd=tmp_path).returncode for _ in range(2))
    assert second == 0, first  # the first may have had to compile it


def test_what_is_kept_hangs_on_numbers_that_come_from_other_files():
    """As those of the engine's layout do, whose file holds no function."""
    assert ("ROW_SIZE", layout.ROW_SIZE) in kernel.play._constants
    assert ("LARGEST", scanning.LARGEST) in vcd_scan.scan_changes._constants
