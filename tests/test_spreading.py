"""Work spread over processes and clusters: what comes back is what one process makes, whoever dies on the way."""

import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from calling import tachys
from tachys import __version__
from tachys.demo.project import write_project
from tachys.errors import InputError, InternalError
from tachys.spreading import Workers, do_part, spread, with_progress
from tachys.trying.keeping import Kept
from tachys.trying.points import NeedAt, Outcome

TACHYS = [sys.executable, "-c", "from tachys.entry import main; main()"]
OVER = ("--over", "isr.tick.cost.2=5 us..150 us/80")


def run(place, *words, **more):
    return subprocess.run([*TACHYS, *words], cwd=place, capture_output=True, text=True, timeout=300, **more)


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    folder = tmp_path_factory.mktemp("spread")
    write_project(folder)
    return folder


def started(module, *words, told=subprocess.DEVNULL):
    return subprocess.Popen([sys.executable, "-m", module, *words], stdout=subprocess.DEVNULL, stderr=told, text=True)


@pytest.fixture(scope="module")
def cluster():
    """(address, processes of two workers), begun as docs/scale.md says."""
    scheduler = started(
        "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", told=subprocess.PIPE
    )
    address = next(found.group() for line in scheduler.stderr if (found := re.search(r"tcp://[\d.]+:\d+", line)))
    words = (address, "--nthreads", "1", "--no-nanny", "--no-dashboard")
    workers = [started("distributed.cli.dask_worker", *words) for _ in range(2)]
    yield address, workers
    for process in (*workers, scheduler):
        process.kill()
        process.communicate()


# --- jobs, which processes find by their names ----------------------------------------------------------------------


def twice(shared, item):
    return f"{shared}{item}{item}"


def fatal_once(shared, item):
    mark = Path(shared)
    if item == 7 and not mark.exists():
        mark.touch()
        os.kill(os.getpid(), signal.SIGKILL)
    return item


def always_fatal(shared, item):
    os.kill(os.getpid(), signal.SIGKILL)


def refuses(shared, item):
    if item == 9:
        raise InputError([])
    return item


def test_results_come_in_order_whoever_makes_them():
    due = [f"x{n}{n}" for n in range(50)]
    for workers, chunk in ((Workers(1), 1), (Workers(2), 1), (Workers(2), 7), (Workers(2), 100)):
        assert list(spread(twice, "x", iter(range(50)), workers, chunk=chunk)) == due
    shares = []
    assert list(with_progress(iter(due), 50, shares.append)) == due
    assert shares == [pytest.approx(n / 50) for n in range(1, 51)]


def test_a_process_that_dies_takes_nothing_with_it(tmp_path):
    assert list(spread(fatal_once, str(tmp_path / "died"), range(40), Workers(2), chunk=2)) == list(range(40))
    with pytest.raises(InternalError, match="3 processes died"):
        list(spread(always_fatal, "", range(40), Workers(2)))
    with pytest.raises(InputError):
        list(spread(refuses, "", range(40), Workers(2)))


def test_what_is_asked_for_last_is_not_worked_out_when_nobody_wants_it():
    asked = []
    results = spread(twice, "", (asked.append(n) or n for n in range(10_000)), Workers(2))
    assert next(results) == "00"
    results.close()
    assert len(asked) < 40


def test_another_version_and_no_cluster_are_one_line(place):
    with pytest.raises(InputError, match=f"its workers have tachys {__version__}, and this is 0.0.1"):
        do_part("0.0.1", twice, "", [1])
    for address in ("127.0.0.1:9", "local:none", "nonsense"):
        told = run(place, "sweep", "row_unit.toml", *OVER, "--cluster", address)
        assert told.returncode == 2
        assert told.stderr.count("\n") == 1, told.stderr
        assert address in told.stderr
    both = tachys(place, "sweep", "row_unit.toml", *OVER, "--cluster", "local:2", "--workers", "2")
    assert both.returncode == 2


def test_a_sweep_on_a_cluster_survives_a_worker_that_is_killed(place, cluster):
    address, workers = cluster
    alone = tachys(place, "sweep", "row_unit.toml", *OVER, "--workers", "1", "-o", "one.csv", "-o", "one.parquet")
    assert alone.returncode == 0, alone.stderr
    words = ("sweep", "row_unit.toml", *OVER, "--cluster", address, "-o", "many.csv", "-o", "many.parquet")
    going = subprocess.Popen([*TACHYS, *words], cwd=place, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    kept = place / "many.csv.part"
    while going.poll() is None and not (kept.exists() and kept.read_bytes().count(b"\n") > 20):
        time.sleep(0.01)
    workers[0].kill()
    _, errors = going.communicate(timeout=120)
    assert going.returncode == 0, errors
    for form in ("csv", "parquet"):
        assert (place / f"one.{form}").read_bytes() == (place / f"many.{form}").read_bytes()
    assert not kept.exists()


def test_runs_and_captures_on_a_cluster_tell_what_one_process_tells(place, cluster):
    address, _ = cluster
    play = ("simulate", "row_unit.toml", "--for", "20 ms", "--runs", "40", "--format", "json")
    others = (("--workers", "2"), ("--cluster", address))
    told = {tachys(place, *play, "--workers", "1").stdout, *(run(place, *play, *who).stdout for who in others)}
    assert len(told) == 1
    assert json.loads(told.pop())["runs"] == 40
    for number in range(2):
        (place / f"farm{number}.vcd").write_bytes((place / "faulty.vcd").read_bytes())
    look = ("check", "row_unit.toml", "farm*.vcd", "mended.csv", "--junit", "out.xml")
    found = [tachys(place, *look, "--workers", "1"), *(run(place, *look, *who) for who in others)]
    assert len({(each.stdout, each.returncode) for each in found}) == 1
    assert "3 captures together" in found[0].stdout
    wrong = run(place, "check", "row_unit.toml", "farm0.vcd", "none.vcd", "row_unit.toml", "--cluster", address)
    assert wrong.returncode == 2
    assert "none.vcd" in wrong.stderr
    assert "row_unit.toml" in wrong.stderr


# --- outcomes that are kept -----------------------------------------------------------------------------------------


def outcome(number):
    return Outcome(
        {f"need{number % 3}": NeedAt(1.0, number / 7, number % 2 == 0, "met")}, number / 9, ("a", f"{number}")
    )


def test_outcomes_are_read_from_where_they_are_kept(tmp_path):
    for path in (None, tmp_path / "kept"):
        kept = Kept(path, "this")
        for number in range(3000):
            kept.add(outcome(number))
        assert list(kept) == [outcome(number) for number in range(3000)]
        assert kept[2999] == outcome(2999)
        assert kept[-1:] == [outcome(2999)]
        assert (list(kept.needs), kept.always_lost) == (["need0", "need1", "need2"], frozenset("a"))
        kept.close()
    file = tmp_path / "kept"
    whole = file.read_bytes()
    for cut in (len(whole), len(whole) - 1, len(whole) // 2, 12):
        file.write_bytes(whole[:cut])
        again = Kept(file, "this")
        assert list(again) == [outcome(number) for number in range(len(again))]
        assert len(again) == max(0, whole[:cut].count(b"\n") - 1)
        again.close()
    assert len(Kept(file, "another")) == 0
