"""Files and calls as nobody should make them: mutated captures, mutated models, odd command lines, run in one process.

Every command must end with a result or with errors in words; anything else is a fault, and so is one that is slow.
"""

import argparse
import contextlib
import gzip
import io
import random
import resource
import sys
import tempfile
import time
import traceback
from collections import Counter
from functools import cache
from pathlib import Path

import click

from tachys.cli.main import tachys
from tachys.demo import board
from tachys.demo.analyser import to_csv, to_vcd
from tachys.demo.project import model_text
from tachys.errors import InputError

HERE = Path(__file__).parent
SLOW = 5.0
NASTY = ["", "$\\frac$", "0", "-1", "1e400", "nan", "inf", "9" * 25, "9" * 400, "\x1b[31m", "\u202e", "\x85", "\x0c", "\t", ",", ";", '"', "'",
         "[", "]", "{", "}", "=", "#", "$end", "$var wire 1 ! x $end", "b" + "1" * 70 + " !", "#" + "9" * 30, "x", "z", "r1e999 !",
         "true", "2026-13-45", "[b]", "é", "µs", "..", "%", "1 ps", "0 s", "1000000 s", "9e18 cycles", "18446744073709551616",
         "isr.tick", "source.tick", "unit.adc", "\r\n", "\n\n", "0x", "0b1", "1,2", "time,name,what"]  # fmt: skip


@cache
def captures():
    """Small captures in each format."""
    recording = board.record(faulty=True)
    vcd, csv = to_vcd(recording).encode(), to_csv(recording).encode()
    head = vcd.index(b"$enddefinitions")
    stream = b"# unit = 10 ns\n# bits = 24\n" + b"".join(
        b"%d,isr.%s,%s\n" % (n * 700 % (1 << 24), [b"tick", b"wheel"][n // 2 % 2], [b"enter", b"leave"][n % 2])
        for n in range(300)
    )
    rows = range(200)
    buses = (
        b"$timescale 1 ns $end $var wire 64 ! b $end $var real 64 $ v $end $var wire 1 !! a $end $enddefinitions $end\n"
    )
    buses += b"".join(
        b"#%d b%s ! r%d.%d $ %d!!\n" % (n * 9, f"{n * 2**58:b}".encode(), n, n * 7 % 10, n % 2) for n in rows
    )
    comma = b"Time [us];a;v;b\n" + b"".join(b"%d,5;%d;%d,25;0x%x\n" % (n * 3, n % 2, n % 9, n * 2**56) for n in rows)
    stamps = b"when,a\n" + b"".join(b"2026-11-25 10:00:%02d.%06d,%d\n" % (n // 9, n % 9 * 10**5, n % 2) for n in rows)
    return [
        (vcd[: head + 6000], "c.vcd"), (csv[:6000].rpartition(b"\n")[0] + b"\n", "c.csv"), (stream, "c.txt"),
        (buses, "b.vcd"), (comma, "v.csv"), (stamps, "s.csv"), (gzip.compress(csv[:6000], mtime=0), "c.csv.gz"),
    ]  # fmt: skip


@cache
def models():
    """Models of the whole language."""
    found = [model_text(), (HERE / "every_key.toml").read_text()]
    return [
        text.encode()
        for text in found + [path.read_text() for path in sorted((HERE / "counterexamples").glob("*.toml"))]
    ]


def mutated(data, dice):
    """A file with a few things changed."""
    for _ in range(dice.choice([1, 1, 2, 4])):
        at, way = dice.randrange(len(data) + 1), dice.random()
        if way < 0.15:
            data = data[:at] + bytes([dice.randrange(256)]) + data[at + 1 :]
        elif way < 0.3:
            data = data[:at] + data[at + dice.choice([1, 2, 20, 400]) :]
        elif way < 0.5:
            data = data[:at] + dice.choice(NASTY).encode() + data[at:]
        elif way < 0.6:
            data = data[:at]
        elif way < 0.7:
            other = dice.randrange(len(data) + 1)
            data = data[:at] + data[other : other + 60] + data[at:]
        else:  # a word is replaced
            begin = max(data.rfind(sep, 0, at) for sep in (b" ", b",", b"\n", b'"')) + 1
            ends = [end for sep in (b" ", b",", b"\n", b'"') if (end := data.find(sep, begin)) >= 0]
            data = data[:begin] + dice.choice(NASTY).encode() + data[min(ends, default=len(data)) :]
        if not data:
            return b"\n"
    return data


def ended(args):
    """How a command ended: "" with a result, "told" with words; else the fault."""
    out, begun = io.StringIO(), time.process_time()
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            tachys.main(args, standalone_mode=False)
        how = ""
    except InputError as error:
        how = "told" if all(str(problem) for problem in error.problems) else "told nothing"
    except click.ClickException:
        how = "told"
    except SystemExit:
        how = ""
    except Exception as error:
        last = traceback.extract_tb(error.__traceback__)[-1]
        how = f"{type(error).__name__} in {Path(last.filename).name}:{last.lineno}: {str(error)[:80]}"
    took = time.process_time() - begun
    if took > SLOW:
        how = f"slow: {args[0]} took {took:.1f} s"
    if any(sign in out.getvalue() for sign in ("\x1b", "\u202e", "\x07")):
        how = f"raw control characters printed by {args[0]}"
    return how


def case(seed, folder):
    """One file or call by chance: (what it was, how its commands ended)."""
    dice = random.Random(seed)
    model, capture = folder / "row.toml", folder / "c.vcd"
    if dice.random() < 0.6:
        data, name = dice.choice(captures())
        path = folder / f"f{name}"
        path.write_bytes(mutated(data, dice))
        calls = [["inspect", path, "--format", dice.choice(["table", "json", "csv"])]]
        calls += [["check", model, path]] if dice.random() < 0.2 else []
        calls += [["draw", path, "--text"]] if dice.random() < 0.2 else []
        calls += [["draw", path, "-o", folder / "o.svg"]] if dice.random() < 0.03 else []
        calls += [["convert", path, folder / f"o{dice.choice(['.vcd', '.csv'])}"]] if dice.random() < 0.2 else []
        calls += [["probes", model, path]] if dice.random() < 0.1 else []
        calls += [["new", folder / f"n{seed}", "--from-capture", path]] if dice.random() < 0.1 else []
        what = f"capture {name}"
    elif dice.random() < 0.8:
        path = folder / "m.toml"
        path.write_bytes(mutated(dice.choice(models()), dice))
        calls = [["bounds", path, "--format", dice.choice(["table", "json", "csv"])]]
        calls += [["simulate", path, "--for", "2ms"]] if dice.random() < 0.3 else []
        what = "model"
    else:
        command = dice.choice(
            ["inspect", "check", "draw", "bounds", "simulate", "explain", "convert", "dividers", "fit", "probes"]
        )
        words = [str(model), str(capture), *NASTY, "--from", "--to", "--for", "--format", "--text", "--spread", "--worst", "-o", "--seed",
                 "--runs", "--cursor", "--span", "--bus", "json", "0 ms", "1ms", "release", "isr.wheel.latency", "../x", "x" * 300]  # fmt: skip
        args = [dice.choice(words) for _ in range(dice.randint(0, 4))]
        calls = [[command, *(each.replace("\0", "") for each in args if "-o" not in args)]]
        what = "call"
    return what, [how for call in calls if (how := ended([str(word) for word in call])) not in ("", "told")]


def fuzz(seeds):
    """(cases by what they were, faults with the seed of the first)."""
    cases, faults = Counter(), {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "row.toml").write_text(model_text())
        (folder / "c.vcd").write_bytes(captures()[0][0])
        for seed in seeds:
            what, found = case(seed, folder)
            cases[what] += 1
            for how in found:
                faults.setdefault(how, []).append(seed)
    return cases, faults


def main():
    """Fuzz for long, and say what was found."""
    options = argparse.ArgumentParser()
    options.add_argument("--cases", type=int, default=2000)
    options.add_argument("--seed", type=int, default=0)
    asked = options.parse_args()
    begun = time.monotonic()
    cases, faults = fuzz(range(asked.seed, asked.seed + asked.cases))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    print(
        f"{sum(cases.values())} cases {dict(cases)}, {len(faults)} unique faults, {memory:.2f} GiB, {time.monotonic() - begun:.0f} s"
    )
    for how, seeds in sorted(faults.items(), key=lambda pair: -len(pair[1])):
        print(f"  {len(seeds):5} {how}; seed {seeds[0]}")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
