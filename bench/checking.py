"""How fast a long capture is checked: ten minutes of twenty lines. Run by ``make bench``."""

from __future__ import annotations

import resource
import sys
import tempfile
import time
from pathlib import Path

import captures
import numpy as np

from tachys.capture.table import Capture, Signal, in_order
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo import board
from tachys.demo.analyser import to_vcd
from tachys.model.loading import read_model

US = 10**6
MINUTES = 10
ROUTINES = 10


def model() -> str:
    """Ten routines, each with a line for its event and one for its body; one need each."""
    text = [
        'tachys = 1\n[core]\nclock = "48 MHz"\nlevels = 10\nentry = "16 cycles"\nexit = "12 cycles"\nchain = "8 cycles"'
    ]
    for k in range(ROUTINES):
        text.append(
            f'[source.s{k}]\ngap = "{1500 + 50 * k} us"\n[isr.r{k}]\non = "source.s{k}"\nlevel = {k}\n'
            f'cost = ["3 us", "9 us"]\ndeadline = "200 us"\n'
            f'[probe.E{k}]\nshows = "source.s{k}"\nedge = "rise"\n[probe.B{k}]\nshows = "isr.r{k}"'
        )
    return "\n".join(text)


def line(name: str, rises: np.ndarray, widths: np.ndarray) -> Signal:
    """A line with a pulse of each width."""
    at = np.empty(2 * len(rises) + 1, np.int64)
    at[0], at[1::2], at[2::2] = 0, rises, rises + widths
    value = np.zeros(len(at), np.int64)
    value[1::2] = 1
    return Signal(name, 1, at, value, np.ones(len(at), np.bool_))


def capture() -> Capture:
    """Events at random distances; their routines follow, apart in time so that each stands for itself."""
    dice, signals = np.random.default_rng(1), {}
    length = MINUTES * 60 * 10**12
    for k in range(ROUTINES):
        count = length // ((2300 + 100 * k) * US)
        events = np.cumsum(dice.integers(1600 + 100 * k, 2900 + 100 * k, count) * US) + k * 7 * US
        events = events[events < length - 10**9]
        events = events // (2300 * US) * (2300 * US) + k * 100 * US  # slots of their own
        events = np.unique(events)
        signals[f"E{k}"] = line(f"E{k}", events, np.full(len(events), 20 * US))
        begin = events + 3 * US // 8
        signals[f"B{k}"] = line(f"B{k}", begin, dice.integers(32, 64, len(events)) * US // 8)
    return Capture("long.vcd", signals, 0, length, US // 8)


def faulty(times: int) -> Capture:
    """The example's faulty board so many times over, with some 40 misses in each."""
    once, signals = read_vcd([to_vcd(board.record(faulty=True)).encode()], "faulty.vcd"), {}
    for name, each in once.signals.items():
        at = np.concatenate([each.at + k * once.length for k in range(times)])
        value, known = np.tile(each.value, times), np.tile(each.known, times)
        keep = np.append(True, value[1:] != value[:-1])
        signals[name] = Signal(name, each.width, at[keep], value[keep], known[keep])
    return Capture("faulty.vcd", signals, 0, times * once.length, once.resolution)


def write_vcd(path: Path, seen: Capture, times: int) -> None:
    """A capture so many times over, one behind the other, as a dump."""
    at, which, values, _ = map(np.concatenate, zip(*in_order(seen), strict=True))
    keep = at > 0
    codes = [chr(33 + number) for number in range(len(seen.signals))]
    text = [
        f"{value}{codes[number]}" for number, value in zip(which[keep].tolist(), values[keep].tolist(), strict=True)
    ]
    head = "".join(f"$var wire 1 {code} {name} $end\n" for code, name in zip(codes, seen.signals, strict=True))
    with path.open("w") as stream:
        stream.write(f"$timescale 1 ns $end\n{head}$enddefinitions $end\n#0\n")
        stream.write("".join(f"0{code}\n" for code in codes))
        for number in range(times):
            shifted = (at[keep] + number * seen.length) // 1000
            for first in range(0, len(text), 1 << 20):
                rows = zip(shifted[first : first + (1 << 20)].tolist(), text[first : first + (1 << 20)], strict=True)
                stream.write("".join([f"#{now}\n{change}\n" for now, change in rows]))


def check_gib() -> None:
    """A dump of more than 1 GiB against its model through the whole program, its own memory looked at meanwhile."""
    with tempfile.TemporaryDirectory() as folder:
        path, told = Path(folder, "long.vcd"), Path(folder, "long.toml")
        told.write_text(model())
        write_vcd(path, capture(), 8)
        took, most, found = captures.run(Path(folder), "check", str(told), str(path))
        size = path.stat().st_size / 2**30
        print(f"tachys check of a VCD of {size:.1f} GiB: {found['length'] / 60:.0f} minutes in {took:.0f} s, memory "
              f"{most:.2f} GiB, {len(found['findings'])} findings")  # fmt: skip


def main() -> None:
    """Measure and print."""
    if "--gib" in sys.argv:
        check_gib()
    system, seen = read_model(model(), "long.toml"), capture()
    short = Capture("short.vcd", {n: Signal(n, 1, s.at[:2000], s.value[:2000], s.known[:2000]) for n, s in seen.signals.items()}, 0,
                    10**13, seen.resolution)  # fmt: skip
    check(system, short)  # loads what is compiled
    edges = sum(len(signal.at) - 1 for signal in seen.signals.values())
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    begun = time.perf_counter()
    result = check(system, seen)
    took = time.perf_counter() - begun
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    columns = sum(s.at.nbytes + s.value.nbytes for s in seen.signals.values()) / 2**30
    print(f"{MINUTES} minutes, {len(seen.signals)} lines, {edges / 1e6:.1f} million edges: checked in {took:.1f} s, "
          f"{edges / took / 1e6:.1f} million edges/s, {len(result.findings)} findings")  # fmt: skip
    print(f"memory: columns {columns:.2f} GiB, the check {peak - before:.2f} GiB more")


if __name__ == "__main__":
    main()
