"""Boards by chance whose lines have lost their names, each with what they show, and faults of binding planted in its model."""

from __future__ import annotations

import random
import re
import tomllib
from dataclasses import dataclass, replace

from tachys.capture.table import Capture, Signal
from tachys.capture.vcd import read_vcd
from tachys.demo.analyser import to_vcd
from trials import trial

PROBES = re.compile(r"(?m)^\[probe\.\w+\].*\n(?:^(?!\[).*\n)*")  # of a model's text
KINDS = ("edge", "exchanged", "inverted", "another", "unit")


@dataclass(frozen=True, slots=True)
class Nameless:
    """A model without probes, a capture whose lines are called D0, D1, …, and (shows, edge) of each line that moves."""

    model: str
    capture: Capture
    truth: dict[str, tuple[str, str | None]]


def nameless(seed: int) -> Nameless:
    """A board by chance."""
    made = trial(seed)
    probes = tomllib.loads(made.model)["probe"]
    names = list(probes)
    random.Random(seed).shuffle(names)
    renamed = {name: f"D{number}" for number, name in enumerate(names)}
    seen = read_vcd([to_vcd(made.recording).encode()], "board.vcd")
    signals = {
        renamed[name]: replace(seen.signals[name], name=renamed[name]) for name in sorted(names, key=renamed.get)
    }
    truth = {
        renamed[name]: (probe["shows"], probe.get("edge"))
        for name, probe in probes.items()
        if len(seen.signals[name].at) > 3
    }
    return Nameless(PROBES.sub("", made.model), replace(seen, signals=signals), truth)


def with_probes(board: Nameless, probes: dict[str, tuple[str, str | None, bool]]) -> str:
    """The model with probes: (shows, edge, whether it is active low) by line."""
    text = board.model
    for line, (shows, edge, low) in probes.items():
        text += (
            f'\n[probe.{line}]\nshows = "{shows}"\n' + (f'edge = "{edge}"\n' if edge else "") + 'active = "low"\n' * low
        )
    return text


def planted(board: Nameless, kind: str, seed: int) -> tuple[str, Capture, tuple[str, ...]] | None:
    """(the model with one fault of binding, the capture, the lines that have it); None where there is no place for it."""
    dice = random.Random(seed)
    probes = {line: (shows, edge, False) for line, (shows, edge) in board.truth.items()}
    bodies = [line for line, (_, edge) in board.truth.items() if edge is None]
    capture = board.capture
    if kind == "edge":
        lines = [line for line, (_, edge) in board.truth.items() if edge == "rise"]
        if not lines:
            return None
        hit = (dice.choice(lines),)
        probes[hit[0]] = (probes[hit[0]][0], "fall", False)
    elif kind == "exchanged":
        if len(bodies) < 2:
            return None
        one, other = hit = tuple(dice.sample(bodies, 2))
        probes[one], probes[other] = probes[other], probes[one]
    elif kind == "inverted":
        if not bodies:
            return None
        hit = (dice.choice(bodies),)
        probes[hit[0]] = (probes[hit[0]][0], None, True)
    elif kind == "another":  # a probe stands on the line of a thing that has none then
        if len(bodies) < 3:
            return None
        hit, gone = (dice.choice(bodies),), None
        gone = dice.choice([line for line in bodies if line not in hit])
        probes[hit[0]] = probes.pop(gone)
    else:
        hit = ()
        signals = {name: _scaled(each, 1000) for name, each in capture.signals.items()}
        capture = replace(capture, signals=signals, begin=capture.begin * 1000, end=capture.end * 1000,
                          resolution=capture.resolution * 1000)  # fmt: skip
    return with_probes(board, probes), capture, hit


def _scaled(signal: Signal, by: int) -> Signal:
    return replace(signal, at=signal.at * by)
