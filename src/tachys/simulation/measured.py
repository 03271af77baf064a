"""Costs that were measured: a CSV file with a name and a time in each line, drawn from in place of a range."""

from __future__ import annotations

import os
from pathlib import Path

from tachys.errors import InputError, Place, Problem, did_you_mean, input_error
from tachys.model.loading import read_text
from tachys.model.quantities import Range, ceil_ps, parse_duration
from tachys.model.system import System

LARGEST = 64 * 2**20


def read_costs(path: Path, system: System) -> dict[str, tuple[int, ...]]:
    """Lines such as ``isr.tick,4.25 us``; every value within the range that the model gives.

    Raises:
        InputError: with every line that is wrong; a value outside its range means that the model is.
    """
    if not os.path.exists(path):
        raise input_error(str(path), "there is no such file", "costs are most, least, drawn, triangular, or a CSV file")
    bodies: dict[str, Range] = {isr.thing: isr.cost for isr in system.isrs}
    bodies |= {step.thing: step.cost for step in system.steps}
    found: dict[str, list[int]] = {}
    problems: list[Problem] = []
    for number, line in enumerate(read_text(path, "CSV", LARGEST).splitlines(), 1):
        name, _, text = (part.strip() for part in line.partition(","))
        if not name or name.startswith("#") or (number == 1 and name == "name"):
            continue
        wrong = mend = ""
        try:
            value = ceil_ps(parse_duration(text).amount)
            if name not in bodies:
                wrong, mend = f'"{name}" is no routine or step', did_you_mean(name, list(bodies), "routine or step")
            elif not bodies[name].least <= value <= bodies[name].most:
                wrong, mend = f"{text} is outside the cost that the model gives {name}", "correct the model first"
        except ValueError as error:
            wrong, _, mend = str(error).partition("; ")
        if wrong:
            problems.append(Problem(Place(str(path), number), "", wrong, mend))
        else:
            found.setdefault(name, []).append(value)
    if problems:
        raise InputError(problems)
    return {name: tuple(values) for name, values in found.items()}
