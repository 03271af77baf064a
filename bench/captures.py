"""How fast captures are read, and how much memory that takes. Run by ``make bench``, with ``--gib`` for a large one."""

from __future__ import annotations

import io
import json
import random
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import vcd.reader

from tachys.capture.inspecting import inspect
from tachys.capture.reading import read_capture

LINES = 20


def make_vcd(path: Path, size: int) -> None:
    """A dump of twenty lines and a bus, of about ``size`` bytes."""
    dice = random.Random(1)
    head = "$timescale 1 ns $end\n" + "".join(f"$var wire 1 {chr(33 + k)} D{k} $end\n" for k in range(LINES))
    head += "$var wire 16 zz PORT $end\n$enddefinitions $end\n#0\n"
    block, levels = [], [0] * LINES
    steps = []
    for _ in range(200_000):
        line = dice.randrange(LINES)
        levels[line] ^= 1
        steps.append((dice.randrange(1, 900), f"{levels[line]}{chr(33 + line)}\n"))
        if dice.random() < 0.05:
            steps.append((0, f"b{dice.randrange(65536):b} zz\n"))
    now, written = 0, 0
    with path.open("w") as stream:
        written += stream.write(head)
        while written < size:
            block = []
            for step, change in steps:
                now += step
                block.append(f"#{now}\n{change}" if step else change)
            written += stream.write("".join(block))


def make_csv(path: Path, rows: int, chance: float = 0.05) -> None:
    """Regular samples of eight lines, of which one changes by ``chance`` from a row to the next."""
    dice = random.Random(2)
    with path.open("w") as stream:
        stream.write("Time [us]," + ",".join(f"D{k}" for k in range(8)) + "\n")
        level = 0
        for row in range(rows):
            if dice.random() < chance:
                level ^= 1 << dice.randrange(8)
            stream.write(f"{row / 10:.1f}," + ",".join(str(level >> k & 1) for k in range(8)) + "\n")


def packets(size: int) -> bytes:
    """Trace packets of some ``size`` bytes: routines of sixteen that come and go, a stamp to each packet."""
    dice, out = random.Random(3), [b"\0\0\0\0\0\x80"]
    for _ in range(size // 13):
        number = 16 + dice.randrange(16)
        for what, ticks in ((1 << 4, dice.randrange(1, 5000)), (2 << 4, dice.randrange(1, 900)), (3 << 4, 6)):
            long = bytes([0xC0, ticks & 127]) if ticks < 128 else bytes([0xC0, ticks & 127 | 128, ticks >> 7])
            told = number if what < 3 << 4 else 0
            out.append(bytes([0x0E, told, what]) + (bytes([ticks << 4]) if ticks < 7 else long))
    return b"".join(out)


def peak() -> float:
    """The peak memory of the process so far, in GiB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20


def own_memory(pid: int) -> float:
    """What a process holds of its own now, in GiB: mapped files, which give way to others, apart."""
    for line in Path(f"/proc/{pid}/status").read_text().splitlines():
        if line.startswith("RssAnon:"):
            return int(line.split()[1]) / 2**20
    return 0.0


def run(folder: Path, *arguments: str) -> tuple[float, float, Any]:
    """(seconds, most of its own memory in GiB, what it printed) of the whole program."""
    begun, most = time.perf_counter(), 0.0
    command = [sys.executable, "-m", "tachys", *arguments, "--format", "json"]
    with (folder / "out.json").open("w") as out, subprocess.Popen(command, stdout=out) as process:
        while process.poll() is None:
            most = max(most, own_memory(process.pid))
            time.sleep(0.02)
    return time.perf_counter() - begun, most, json.loads((folder / "out.json").read_text())


def inspect_gib(folder: Path) -> None:
    """A dump of 1 GiB through the whole program, its own memory looked at while it runs."""
    path = folder / "gib.vcd"
    make_vcd(path, 1 << 30)
    took, most, told = run(folder, "inspect", str(path))
    edges = sum(each["edges"] for each in told["signals"].values())
    print(f"tachys inspect of a 1 GiB VCD: {edges / 1e6:.0f} million edges in {took:.0f} s, memory {most:.2f} GiB")
    path.unlink()


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        small, path = Path(folder, "small.vcd"), Path(folder, "c.vcd")
        make_vcd(small, 1 << 20)
        read_capture(small)  # loads the compiled scanners
        make_vcd(path, 100 << 20)
        size, before = path.stat().st_size, peak()
        begun = time.perf_counter()
        capture = read_capture(path)
        took = time.perf_counter() - begun
        columns = sum(s.at.nbytes + s.value.nbytes for s in capture.signals.values())
        print(f"VCD of {size / 2**20:.0f} MiB: {size / took / 1e6:.0f} MB/s, columns {columns / 2**30:.2f} GiB, "
              f"peak {peak() - before:.2f} GiB more")  # fmt: skip
        begun = time.perf_counter()
        inspect(capture)
        print(f"inspected in {time.perf_counter() - begun:.1f} s, peak {peak():.2f} GiB")
        data = small.read_bytes()
        begun = time.perf_counter()
        tokens = sum(1 for _ in vcd.reader.tokenize(io.BytesIO(data)))
        slow = len(data) / (time.perf_counter() - begun)
        print(
            f"pyvcd tokenizer: {slow / 1e6:.2f} MB/s ({tokens} tokens); ours is {size / took / slow:.0f} times as fast"
        )
        path.unlink()
        if "--gib" in sys.argv:
            inspect_gib(Path(folder))
        table = Path(folder, "c.csv")
        make_csv(table, 1000)
        read_capture(table)  # loads the compiled scanner
        make_csv(table, 1_000_000)
        size = table.stat().st_size
        begun = time.perf_counter()
        read_capture(table)
        ours = time.perf_counter() - begun
        try:
            import pandas
        except ImportError:
            print(f"sampled CSV: {size / ours / 1e6:.0f} MB/s")
            return
        begun = time.perf_counter()
        pandas.read_csv(table, engine="c")
        theirs = time.perf_counter() - begun
        print(f"sampled CSV: {size / ours / 1e6:.0f} MB/s; the C reader of pandas {size / theirs / 1e6:.0f} MB/s")


if __name__ == "__main__":
    main()
