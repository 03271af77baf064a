"""Costs that come with a build: a CSV file of measured or computed times, laid over a model or drawn from in a play."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from tachys.errors import InputError, Place, Problem, input_error
from tachys.files import read_text
from tachys.model.layers import KeyPath, Layer, nested, nowhere, read_key
from tachys.model.quantities import PS_PER_SECOND, Duration, Range, ceil_ps, parse_duration, parse_duration_range

if TYPE_CHECKING:
    from tachys.model.system import System

LARGEST = 64 * 2**20
_TIMED = ("isr", "step", "unit", "core", "loop")
_NAMED = 3


class Cost(Struct, frozen=True):
    """What a file says of one key: every time that a line gives it, and the first of those lines.

    ``times`` are in the order of the file; ``values`` are those of lines with one time alone: single measurements.
    """

    line: int
    times: tuple[Duration, ...]
    values: tuple[Duration, ...]

    @property
    def range(self) -> str | list[str]:
        """The least and the most, as a model writes them."""
        least, most = (find(self.times, key=lambda time: time.amount) for find in (min, max))
        return [least.text, most.text] if least.amount < most.amount else most.text


class CostTable(Struct, frozen=True):
    """A file of costs, by the key of the model that each is of: ("isr", "tick", "cost")."""

    file: str
    text: str
    costs: Mapping[KeyPath, Cost]

    def layer(self, below: Mapping[str, Any]) -> Layer:
        """The ranges as a layer over the tables ``below``; its name says which of them differ from what stands there.

        Raises:
            InputError: a line names what the model does not have.
        """
        problems = [
            problem for path, cost in self.costs.items()
            for problem in nowhere(below, path, Place(self.file, cost.line), ".".join(_short(path)))
        ]  # fmt: skip
        if problems:
            raise InputError(problems)
        tables: dict[str, Any] = {}
        for path, cost in self.costs.items():
            _put(tables, nested(path, cost.range))
        changed = [".".join(_short(path)) for path, cost in self.costs.items() if _differs(below, path, cost.range)]
        more = f" and {len(changed) - _NAMED} more" if len(changed) > _NAMED else ""
        told = f"{', '.join(changed[:_NAMED])}{more}" if changed else "as the model has them"
        places = {path: Place(self.file, cost.line) for path, cost in self.costs.items()}
        return Layer(f"costs of {Path(self.file).name} ({told})", tables, places=places)

    def values(self, system: System) -> dict[str, tuple[int, ...]]:
        """The single measurements of each routine and step, in ps, as far as its cost in the system holds them."""
        clocks = {clock.name: clock.hertz for clock in system.clocks}
        bodies: dict[str, Range] = {isr.thing: isr.cost for isr in system.isrs}
        bodies |= {step.thing: step.cost for step in system.steps}
        found: dict[str, tuple[int, ...]] = {}
        for path, cost in self.costs.items():
            name = ".".join(_short(path))
            if name in bodies and cost.values:
                times = (_picoseconds(value, clocks) for value in cost.values)
                found[name] = tuple(time for time in times if bodies[name].least <= time <= bodies[name].most)
        return found


def read_cost_table(path: str | Path) -> CostTable:
    """The costs of a file, as :func:`cost_table`."""
    return cost_table(read_text(path, "CSV", LARGEST), str(path))


def cost_table(text: str, file: str) -> CostTable:
    """Lines such as ``isr.tick,4.1 us,4.25 us`` or, one for each time that was measured, ``isr.tick,4.25 us``.

    A key of the model may be written out: ``core.entry``, ``unit.adc.takes``, ``isr.rx.cost."source.a"``.

    Raises:
        InputError: with every line that is wrong.
    """
    problems: list[Problem] = []
    found: dict[KeyPath, list[tuple[int, tuple[Duration, ...]]]] = {}
    for number, line in enumerate(text.splitlines(), 1):
        key, *times = (part.strip() for part in line.split(","))
        if not line.strip(" ,\t") or key.startswith("#") or (not found and key == "name"):
            continue
        try:
            where = _path_of(key)
            known = [time for _, each in found.get(where, ()) for time in each][:1]
            found.setdefault(where, []).append((number, _times(times, known)))
        except ValueError as error:
            wrong, _, mend = str(error).partition("; ")
            problems.append(Problem(Place(file, number), key, wrong, mend))
    if problems:
        raise InputError(problems)
    if not found:
        raise input_error(file, "no line of it gives a cost", "write lines such as isr.tick,4.1 us,4.25 us")
    table = CostTable(file, text, {where: _cost(lines) for where, lines in found.items()})
    both = [path for path in table.costs for other in table.costs if path != other and path == other[: len(path)]]
    if both:
        wrong = f"{'.'.join(_short(both[0]))} is given as a whole and by event"
        raise input_error(table.file, wrong, "give one of them", line=table.costs[both[0]].line)
    return table


def _cost(lines: list[tuple[int, tuple[Duration, ...]]]) -> Cost:
    values = tuple(times[0] for _, times in lines if len(times) == 1)
    return Cost(lines[0][0], tuple(time for _, times in lines for time in times), values)


def _path_of(key: str) -> KeyPath:
    path = read_key(key)
    if path is None or path[0] not in _TIMED:
        raise ValueError(f'"{key}" names nothing that takes time; begin a line with a name, as in isr.tick,4.25 us')
    return (*path, "cost") if len(path) == 2 and path[0] in ("isr", "step") else path


def _times(texts: Iterable[str], known: list[Duration]) -> tuple[Duration, ...]:
    """The one or two times of a line; all times of a key count the same clock, or none."""
    times = tuple(parse_duration(text) for text in texts if text)
    if not 1 <= len(times) <= 2:
        raise ValueError("a line gives a name and one time, or the least and the most; as in isr.tick,4.1 us,4.25 us")
    if len({time.clock for time in (*times, *known)}) > 1:
        raise ValueError("times of one name are in cycles and in seconds; write them all in one way")
    if times[0].amount > times[-1].amount:
        raise ValueError(f"the range runs backwards; write {times[1].text},{times[0].text}")
    return times


def _short(path: KeyPath) -> KeyPath:
    return path[:2] if path[2:] == ("cost",) else path


def _put(tables: dict[str, Any], more: Mapping[str, Any]) -> None:
    for key, value in more.items():
        if isinstance(value, Mapping) and isinstance(tables.get(key), dict):
            _put(tables[key], value)
        else:
            tables[key] = value


def _differs(below: Any, path: KeyPath, new: str | list[str]) -> bool:
    for part in path:
        below = below.get(part) if isinstance(below, Mapping) else None
    try:
        was, now = parse_duration_range(below), parse_duration_range(new)
    except ValueError:
        return True
    return _ends(was.least, was.most) != _ends(now.least, now.most)


def _ends(*times: Duration) -> list[tuple[Fraction, str | None]]:
    return [(time.amount, time.clock) for time in times]


def _picoseconds(time: Duration, clocks: Mapping[str, Fraction]) -> int:
    return ceil_ps(time.amount if time.clock is None else time.amount * PS_PER_SECOND / clocks[time.clock])
