"""One table of every speed: what was done, ours, a peer in the same run, their ratio, and the limit.

Run by ``make bench``, with ``--json`` as data. Ratios are to be trusted, not seconds: the machine swings. ``--runs 3``
measures each three times and takes the median.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

sys.path[:0] = [str(Path(__file__).parent), str(Path(__file__).parent.parent / "tests")]

import bounds as bench_bounds
import captures as bench_captures
import checking as bench_checking
import engine as bench_engine

from attack import Attack, attack, toml
from tachys.capture.inspecting import changes_of, inspect
from tachys.capture.packets import PacketShape, read_packets
from tachys.capture.reading import read_capture
from tachys.capture.table import Capture
from tachys.checking.checking import check
from tachys.demo import board
from tachys.demo.analyser import to_vcd
from tachys.demo.project import model_text
from tachys.demo.speaking import Sender, loop_of_words
from tachys.marks.codes import marks_of
from tachys.marks.stream import event_lines
from tachys.model.loading import read_model
from tachys.model.system import System
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds

NEAR_FULL = 2397  # a model by chance whose loop is nearly full
IN_A_ROW = 253_303_003_178  # one with thousands of activations in one busy window


class Row(NamedTuple):
    """A line of the table: ``ours`` and ``theirs`` in ``unit``; the limit is for ours, or for the ratio (``of``)."""

    work: str
    ours: float
    unit: str
    peer: str
    theirs: float
    side: str
    limit: float
    of: str = "ratio"

    @property
    def ratio(self) -> float:
        """Ours to theirs; of times how many times as fast where the limit asks for more."""
        faster = self.unit == "s" and self.side == ">="
        return self.theirs / self.ours if faster else self.ours / self.theirs

    @property
    def good(self) -> bool:
        """Whether the limit is kept."""
        value = self.ratio if self.of == "ratio" else self.ours
        return value <= self.limit if self.side == "<=" else value >= self.limit


def took(work: Callable[[], object], runs: int = 1) -> float:
    """Seconds, the median of some runs."""
    found = []
    for _ in range(runs):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return statistics.median(found)


def starting(folder: Path, runs: int) -> list[Row]:
    """What a command takes from the call to the end, beside Python with the three libraries that all need."""
    (folder / "m.toml").write_text(model_text())
    (folder / "c.vcd").write_text(to_vcd(board.record(faulty=True)))
    (folder / "every_key.toml").write_text((Path(__file__).parent.parent / "tests" / "every_key.toml").read_text())

    # an interpreter that may not keep what it has compiled compiles the whole program at every call
    settled = {**os.environ, "PYTHONDONTWRITEBYTECODE": ""}

    def call(*command: str) -> float:
        def once() -> None:
            subprocess.run([sys.executable, *command], cwd=folder, env=settled, capture_output=True, check=False)

        once()
        return took(once, max(3, runs))

    base = call("-c", "import click, pydantic, numpy")
    calls = {"--help": (1.0, ("--help",)), "bounds": (2.5, ("bounds", "m.toml")), "inspect": (4.0, ("inspect", "c.vcd")),
             "check": (6.5, ("check", "m.toml", "c.vcd")), "simulate": (6.5, ("simulate", "m.toml")),
             "bounds of every key": (6.5, ("bounds", "every_key.toml"))}  # fmt: skip
    rows = []
    for name, (limit, arguments) in calls.items():
        ours = call("-m", "tachys", *arguments)
        rows.append(Row(f"tachys {name}", ours, "s", "import click, pydantic, numpy", base, "<=", limit))
    return rows


def reading(folder: Path, runs: int) -> list[Row]:
    """A VCD and a CSV read, and looked at."""
    import pandas
    import vcd.reader

    path, table = folder / "big.vcd", folder / "big.csv"
    bench_captures.make_vcd(path, 1 << 20)
    read_capture(path)
    small = path.read_bytes()
    slow = len(small) / 1e6 / took(lambda: sum(1 for _ in vcd.reader.tokenize(io.BytesIO(small))))
    bench_captures.make_vcd(path, 100 << 20)
    size = path.stat().st_size / 1e6
    capture = read_capture(path)
    inspect(capture)
    with one_core():
        alone = took(lambda: read_capture(path), runs)
    read = took(lambda: read_capture(path), runs)
    looked = took(lambda: inspect(capture), runs)
    file = took(path.read_bytes, runs)
    rows = [
        Row("read a VCD on one core", size / alone, "MB/s", "file read", size / file, ">=", 450, "ours"),
        Row("read a VCD on two", size / read, "MB/s", "file read", size / file, ">=", 700, "ours"),
        Row("read a VCD on one core", size / alone, "MB/s", "pyvcd's tokens", slow, ">=", 300),
        Row("read and inspect", read + looked, "s", "the read alone", read, "<=", 1.7),
    ]
    bench_captures.make_csv(table, 1000)
    read_capture(table)
    for kind, chance in (("sparse", 0.05), ("dense", 0.5)):
        bench_captures.make_csv(table, 1_000_000, chance)
        ours = took(lambda: read_capture(table), runs)
        theirs = took(lambda: pandas.read_csv(table, engine="c"), runs)
        both = (table.stat().st_size / 1e6 / each for each in (ours, theirs))
        rows.append(Row(f"read a {kind} CSV", next(both), "MB/s", "pandas' C reader", next(both), ">=", 1.8))
    return rows


@contextmanager
def one_core() -> Iterator[None]:
    """Everything inside runs on one core, where the system lets us choose."""
    if not hasattr(os, "sched_setaffinity"):
        yield
        return
    before = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {min(before)})
    try:
        yield
    finally:
        os.sched_setaffinity(0, before)


def from_the_board(folder: Path, runs: int) -> list[Row]:
    """Trace packets, and marks beside the densest that a board is asked for."""
    path, shape = folder / "trace.bin", PacketShape(Fraction(48_000_000))
    path.write_bytes(bench_captures.packets(40 << 20))
    data, marks = path.read_bytes(), marks_of(read_model(model_text(), "m.toml"))
    read_packets([data], "trace.bin", shape)
    size = len(data) / 1e6
    packets = size / took(lambda: read_packets([data], "trace.bin", shape), runs)
    words, _ = loop_of_words(marks, late=False)
    told = b"".join(Sender(marks).frames(words))
    count = sum(1 for _ in event_lines([told], marks, "x"))
    marked = count / 1e3 / took(lambda: sum(1 for _ in event_lines([told], marks, "x")), max(3, runs))
    return [
        Row("read trace packets", packets, "MB/s", "file read", size / took(path.read_bytes, runs), ">=", 50, "ours"),
        Row("decode marks", marked, "1000/s", "what a board sends", 20, ">=", 5),
    ]


def checked(runs: int) -> list[Row]:
    """Eight million edges held against a model."""
    import numpy

    def row(work: str, system: System, seen: Capture, limit: float) -> Row:
        changes = changes_of(seen) / 1e6
        every = numpy.concatenate([signal.at for signal in seen.signals.values()])
        check(system, seen)
        ours, theirs = took(lambda: check(system, seen), runs), took(lambda: numpy.sort(every), runs)
        return Row(work, changes / ours, "M edges/s", "NumPy's sort of them", changes / theirs, ">=", limit, "ours")

    system, seen = read_model(bench_checking.model(), "long.toml"), bench_checking.capture()
    rows = [row("check", system, seen, 4.0)]
    example = read_model(model_text(), "row_unit.toml")
    rows.append(row("check with thousands missed", example, bench_checking.faulty(200), 2.0))
    held = sum(signal.at.nbytes + signal.value.nbytes for signal in seen.signals.values())
    tracemalloc.start()
    check(system, seen)
    most, edges = tracemalloc.get_traced_memory()[1], changes_of(seen)
    tracemalloc.stop()
    rows.append(
        Row("memory of a check", most / edges, "bytes an edge", "what it was given", held / edges, "<=", 24, "ours")
    )
    return rows


def played(runs: int) -> list[Row]:
    """The engine."""
    bench_engine.ours(1000)
    many = bench_engine.ours(40_000_000)
    ours = many / 1e6 / took(lambda: bench_engine.ours(40_000_000), runs)
    few = bench_engine.simpy_activations(200_000)
    theirs = few / 1e6 / took(lambda: bench_engine.simpy_activations(200_000))
    crowd = bench_engine.crowd(1000)
    among = bench_engine.ours(200_000_000, crowd) / 1e6 / took(lambda: bench_engine.ours(200_000_000, crowd), runs)
    example = read_model(model_text(), "row_unit.toml")
    bench_engine.example(example, 10**9, needs=True)
    alone = took(lambda: bench_engine.example(example, 120 * 10**12, needs=False), runs)
    followed = took(lambda: bench_engine.example(example, 120 * 10**12, needs=True), runs)
    system = bench_engine.system()
    one = took(lambda: simulate(system, 60 * 10**12, RunOptions(), runs=8), runs)
    two = took(lambda: simulate(system, 60 * 10**12, RunOptions(), runs=8, workers=2), runs)
    return [
        Row("engine", ours, "M acts/s", "SimPy", theirs, ">=", 10.5, "ours"),
        Row("engine, a thousand routines", among, "M acts/s", "twelve routines", ours, ">=", 0.3),
        Row("all needs of the example", followed, "s", "played without", alone, ">=", 0.5),
        Row("eight runs on two cores", two, "s", "on one", one, ">=", 1.7),
    ]


def on_paper(runs: int) -> list[Row]:
    """Bounds, beside an empty loop of ten million rounds."""

    def empty() -> None:
        for _ in range(10_000_000):
            pass

    loop = took(empty, runs)
    rows = []
    models = [(f"bounds of {count} routines", bench_bounds.routines(count), limit) for count, limit in
              ((1000, 0.55), (3000, 2.0))]  # fmt: skip
    models.append(("bounds near full load", toml(Attack(NEAR_FULL).model()), 1.0))
    models.append(("bounds of thousands in a row", toml(attack(IN_A_ROW)), 1.0))
    for name, text, limit in models:
        system = read_model(text, "m.toml")
        ours = took(lambda system=system: bounds(system), runs)  # type: ignore[misc]
        rows.append(Row(name, ours, "s", "an empty loop of 10 million", loop, "<=", limit, "ours"))
    return rows


def table(runs: int) -> list[Row]:
    """Everything."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        read = [*reading(folder, runs), *from_the_board(folder, runs)]
        return [*starting(folder, runs), *read, *checked(runs), *played(runs), *on_paper(runs)]


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--runs", type=int, default=1)
    given = parser.parse_args()
    rows = table(given.runs)
    if given.json:
        print(json.dumps([row._asdict() | {"good": row.good} for row in rows], indent=2))
        return
    print(f"{'work':26} {'ours':>9} {'':9} {'peer':28} {'theirs':>9} {'ratio':>7}  limit")
    for row in rows:
        limit = f"{row.side} {row.limit:g}" + (f" {row.unit}" if row.of == "ours" else "")
        print(f"{row.work:26} {row.ours:9.3g} {row.unit:9} {row.peer:28} {row.theirs:9.3g} {row.ratio:7.2f}  "
              f"{limit}{'' if row.good else ', not kept'}")  # fmt: skip


if __name__ == "__main__":
    main()
