"""Boards by chance whose lines have lost their names, each with what they show, and faults planted in its model.

``python tests/bindings.py --boards 100 --seed 1000`` says how many lines are proposed rightly, how many planted faults of
binding are named first, and how often a probe is blamed for a wrong figure of the model.
"""

from __future__ import annotations

import argparse
import random
import re
import tomllib
from dataclasses import dataclass

from msgspec.structs import replace

from tachys.capture.table import Capture, Signal
from tachys.capture.vcd import read_vcd
from tachys.checking.probes.misbound import Fault, judge_binding
from tachys.demo.analyser import to_vcd
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.worstcase.analysis import bounds
from trials import trial

PROBES = re.compile(r"(?m)^\[probe\.\w+\].*\n(?:^(?!\[).*\n)*")  # of a model's text
KINDS = ("edge", "exchanged", "inverted", "another", "unit")
DUE = dict(zip(KINDS, (Fault.EDGE, Fault.EXCHANGED, Fault.INVERTED, Fault.ANOTHER, Fault.UNIT), strict=True))


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


def with_a_wrong_figure(board: Nameless, seed: int) -> tuple[str, str]:
    """(the model with right probes and one figure of it far off, what was done)."""
    dice = random.Random(seed)
    text = with_probes(board, {line: (*due, False) for line, due in board.truth.items()})
    places = [place for place in _TIMES.finditer(text) if _factors(place.group(1))]
    place = dice.choice(places)
    factor = dice.choice(_factors(place.group(1)))
    value = _AMOUNT.sub(lambda amount: f"{float(amount.group()) * factor:.9g}", place.group(2))
    return text[: place.start(2)] + value + text[place.end(2) :], f"{place.group()} times {factor}"


_TIMES = re.compile(r"(?m)^(every|gap|cost|entry|exit|takes|pause) = (.*)$")
_AMOUNT = re.compile(r"(?<![a-z])\d+(?:\.\d+)?(?= )")


def _factors(key: str) -> tuple[float, ...]:
    return {"every": (0.5, 0.9, 1.01, 1.1, 2, 10), "gap": (2, 10), "cost": (0.2, 0.5, 2, 5), "takes": (0.5, 2)}.get(
        key, (0, 10, 40)
    )


def _scaled(signal: Signal, by: int) -> Signal:
    return replace(signal, at=signal.at * by)


def main(boards: int, first: int) -> None:
    """Measure and print."""
    right = many = sure = wrong = named = faults = blamed = 0
    for seed in range(first, first + boards):
        made = nameless(seed)
        for proposal in judge_binding(bounds(read_model(made.model, "m.toml")), made.capture).proposals:
            due = made.truth.get(proposal.line)
            if due is not None:
                hit = proposal.meaning is not None and (proposal.meaning.thing, proposal.meaning.edge) == due
                many, right, sure = many + 1, right + hit, sure + proposal.is_sure
                wrong += proposal.is_sure and not hit
        for kind in KINDS:
            spoilt = planted(made, kind, seed)
            if spoilt is not None:
                text, capture, lines = spoilt
                told = judge_binding(bounds(read_model(text, "m.toml")), capture).faults
                faults += 1
                named += bool(told) and told[0].fault is DUE[kind] and (not lines or set(told[0].lines) == set(lines))
        text, what = with_a_wrong_figure(made, seed)
        try:
            told = judge_binding(bounds(read_model(text, "m.toml")), made.capture).faults
        except InputError:
            continue
        if told and told[0].sure:
            blamed += 1
            print(f"seed {seed}: {what}: {told[0].wrong}: {told[0].mend}")
    print(f"{right} of {many} lines right, {sure} sure, {wrong} of these wrong; {named} of {faults} planted faults named "
          f"first; {blamed} of {boards} wrong figures blamed on a probe")  # fmt: skip


if __name__ == "__main__":
    given = argparse.ArgumentParser()
    given.add_argument("--boards", type=int, default=50)
    given.add_argument("--seed", type=int, default=1000)
    main(given.parse_args().boards, given.parse_args().seed)
