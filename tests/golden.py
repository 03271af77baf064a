"""What every command prints, frozen: a file an input in ``golden/``, a section a call. Run this to freeze it anew.

python tests/golden.py            write all of them
git diff tests/golden             and read what has changed
"""

import contextlib
import io
import re
import sys
import tempfile
from collections import Counter
from functools import cache
from pathlib import Path
from unittest import mock
from xml.etree import ElementTree

from bindings import PROBES
from planted import FAULTS, MODEL, planted
from tachys.cli.main import main
from tachys.demo import board
from tachys.demo.analyser import to_csv, to_vcd
from tachys.demo.project import examples, model_text
from trials import trial

HERE = Path(__file__).parent
KEPT = HERE / "golden"
_DATE = re.compile(r"20\d\d-\d\d-\d\d(T[0-9:.]+)?")
_NUMBER = re.compile(r"-?\d+\.\d+(?:e[+-]?\d+)?|-?\d+e[+-]?\d+")
SHORT = ("simulate", "m.toml", "--for", "8 ms", "--seed", "3")
MODELS = [
    ("bounds", "m.toml"),
    ("bounds", "m.toml", "--format", "json"),
    (*SHORT, "--format", "json"),
]
MORE = [
    ("bounds", "m.toml", "--format", "csv"),
    SHORT,
    (*SHORT, "--format", "csv"),
    (*SHORT, "--bodies", "most", "--format", "json"),
    ("simulate", "m.toml", "--for", "8 ms", "--runs", "3", "--format", "json"),
    ("draw", "m.toml", "--text", "--for", "2 ms"),
    ("dividers", "m.toml"),
]
CAPTURES = [
    ("check", "m.toml", "c.vcd", "--figures", "--all"),
    ("check", "m.toml", "c.vcd", "--format", "json"),
    ("check", "m.toml", "c.vcd", "--format", "csv"),
    ("inspect", "c.vcd"),
    ("explain", "m.toml", "c.vcd", "1"),
    ("fit", "m.toml", "c.vcd"),
    ("explain", "m.toml", "c.vcd", "1", "--format", "json"),
    ("fit", "m.toml", "c.vcd", "--format", "json"),
]
PLANTED = ["longer guard", "storm", "blocking send", "lost wake-up", "unmodelled routine", "shared line"]
PARTS = {"bounds": ["isr.wheel", "flag.frame_ready", "step.log", "release", "room", "need.room"]}


def inputs():
    """(name, what makes {file: its text}, calls) of every input."""
    why = [("bounds", "m.toml", "--why", name) for name in PARTS["bounds"]]
    why += [(*each, "--format", "json") for each in why]
    worst = [("simulate", "m.toml", "--worst", "isr.wheel.latency", "--format", "json")]
    worst += [(*SHORT, "-o", f"o.{form}") for form in ("vcd", "csv")]
    worst += [
        ("draw", "m.toml", "-o", "o.svg", "--for", "3 ms"),
        ("draw", "m.toml", "-o", "o.svg", "--spread", "release"),
    ]
    yield "example", lambda: {"m.toml": model_text()}, [*MODELS, *MORE, *why, *worst]
    trying = [("compare", "m.toml", "--variant", "half_clock", "--set", "step.log.guard.for=90 us"),
              ("compare", "m.toml", "--variant", "short_write", "--all"),
              ("sweep", "m.toml", "--over", "step.log.guard.for=10 us..70 us/7", "--workers", "1"),
              ("sweep", "m.toml", "--over", "core.clock=12 MHz,48 MHz", "--over", "isr.wheel.level=0..4/5"),
              ("headroom", "m.toml", "isr.tick", "step.log", "--workers", "1"),
              ("priorities", "m.toml", "--set", "isr.wheel.level=3")]  # fmt: skip
    yield (
        "trying",
        lambda: {"m.toml": model_text()},
        [more for each in trying for more in (each, (*each, "--format", "json"))],
    )
    yield "half_clock", lambda: {"m.toml": model_text()}, [(*each, "--variant", "half_clock") for each in MODELS]
    yield "every_key", lambda: {"m.toml": (HERE / "every_key.toml").read_text()}, [*MODELS, *MORE]
    energy = ("energy", "m.toml", "--for", "130 s")
    gauge = next(each for each in examples() if each.name == "river-gauge")
    yield (
        "river_gauge",
        lambda: {"m.toml": gauge.text("model.toml")},
        [energy, (*energy, "--format", "json"), ("bounds", "m.toml", "--why", "life")],
    )
    for path in sorted((HERE / "counterexamples").glob("*.toml")):
        yield path.stem, lambda path=path: {"m.toml": path.read_text()}, MODELS
    drawn = [("draw", "m.toml", "c.vcd", "--text", "--from", "100 ms", "--to", "101 ms"), ("draw", "c.vcd", "--text"),
             ("inspect", "c.vcd", "--format", "json", "--span", "D0:rise", "D1:rise"),
             ("check", "m.toml", "c.vcd", "--junit", "o.xml"), ("convert", "c.vcd", "o.events"),
             ("draw", "m.toml", "c.vcd", "-o", "o.svg"), ("draw", "c.vcd", "-o", "o.svg", "--to", "5 ms"),
             ("explain", "m.toml", "c.vcd", "1", "-o", "o.svg")]  # fmt: skip
    yield "faulty", lambda: {"m.toml": model_text(), "c.vcd": faulty()}, [*CAPTURES, *drawn]
    yield "mended", lambda: {"m.toml": model_text(), "c.vcd": mended()}, CAPTURES
    proposed = [("probes", "m.toml", "c.vcd"), ("probes", "m.toml", "c.vcd", "--format", "json"),
                ("probes", "m.toml", "c.vcd", "--format", "csv", "--write"), ("check", "m.toml", "c.vcd")]  # fmt: skip
    yield "unbound", lambda: {"m.toml": PROBES.sub("", model_text()), "c.vcd": faulty()}, proposed
    yield "exchanged", exchanged, [("probes", "m.toml", "c.vcd", "--all"), ("check", "m.toml", "c.vcd")]
    both = [("check", "m.toml", "a.vcd", "b.csv"), ("check", "m.toml", "a.vcd", "b.csv", "--format", "json")]
    yield "both", lambda: {"m.toml": model_text(), "a.vcd": faulty(), "b.csv": mended()}, both
    for fault in PLANTED:
        assert fault in FAULTS
        made = lambda fault=fault: {"m.toml": MODEL, "c.vcd": to_vcd(planted(fault, 1))}  # noqa: E731
        yield fault.replace(" ", "_"), made, CAPTURES
    for seed in (1, 2, 3, 5):
        yield f"trial_{seed}", lambda seed=seed: by_chance(seed), CAPTURES


def exchanged():
    one, other = 'shows = "isr.bus_byte"', 'shows = "isr.seed"'
    text = model_text().replace(one, "shows = ?").replace(other, one).replace("shows = ?", other)
    return {"m.toml": text, "c.vcd": faulty()}


@cache
def faulty():
    return to_vcd(board.record(faulty=True))


@cache
def mended():
    return to_csv(board.record(faulty=False))


def by_chance(seed):
    made = trial(seed)
    return {"m.toml": made.model, "c.vcd": to_vcd(made.recording)}


def printed(files, calls):
    """What the calls print, one after the other."""
    sections = []
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        for name, text in files.items():
            Path(name).write_text(text)
        for call in calls:
            out, err = io.StringIO(), io.StringIO()
            with (
                contextlib.redirect_stdout(out), contextlib.redirect_stderr(err),
                mock.patch.object(sys, "argv", ["tachys", *call]), mock.patch.dict("os.environ", {"COLUMNS": "100"}),
                contextlib.suppress(SystemExit),
            ):  # fmt: skip
                main()
            text = out.getvalue() + "".join(line for line in err.getvalue().splitlines(True) if "compiling" not in line)
            for path in sorted(Path().glob("o.*")):
                text += (
                    _figure(path.read_text())
                    if path.suffix == ".svg"
                    else "\n".join(path.read_text().split("\n")[:200])
                )
                path.unlink()
            text = "\n".join(_DATE.sub("(a date)", line.rstrip()) for line in text.splitlines())
            sections.append(f"$ tachys {' '.join(call)}\n{text}\n")
    return "\n".join(sections)


def _figure(svg):
    """A figure as data: what is written in it, and how much of each kind is drawn where."""
    root, found = ElementTree.fromstring(svg), Counter()
    for element in root.iter():
        tag = element.tag.rpartition("}")[2]
        found[tag] += 1
        numbers = [float(each) for each in re.findall(r"-?\d+\.\d+", element.get("d", "") + element.get("x", ""))]
        found[f"{tag} along"] += sum(numbers)
    texts = [comment.strip() for comment in re.findall(r"<!--(.*?)-->", svg, re.DOTALL)]
    return "\n".join([*texts, *(f"{tag}: {float(count):.3f}" for tag, count in sorted(found.items()))]) + "\n"


def differing(kept, now):
    """The first lines that differ by more than the last digits of a number; empty where there are none."""
    for number, (old, new) in enumerate(zip(kept.splitlines(), now.splitlines(), strict=False), 1):
        if old != new and not (_NUMBER.sub("#", old) == _NUMBER.sub("#", new) and _close(old, new)):
            return f"line {number}:\n- {old[:300]}\n+ {new[:300]}"
    old, new = len(kept.splitlines()), len(now.splitlines())
    return "" if old == new else f"{old} lines were kept, {new} are printed"


def _close(old, new):
    pairs = zip(_NUMBER.findall(old), _NUMBER.findall(new), strict=True)
    return all(abs(float(a) - float(b)) <= 1e-9 * max(abs(float(a)), abs(float(b))) for a, b in pairs)


if __name__ == "__main__":
    KEPT.mkdir(exist_ok=True)
    for title, given, asked in inputs():
        (KEPT / f"{title}.txt").write_text(printed(given(), asked))
