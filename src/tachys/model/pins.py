"""Outputs of the board: what writes them, and which events their edges are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from tachys.errors import did_you_mean
from tachys.model.clocks import ClockTree
from tachys.model.events import Event, Thing
from tachys.model.nodes import Isr, Pin, Unit, Write
from tachys.model.report import Path, Reporter
from tachys.model.schema import ModelFile, NeedTable, PinActionTable

WRITERS = ("source", "unit", "isr", "step")


def make_pins(
    model: ModelFile, units: Iterable[Unit], isrs: Iterable[Isr], clocks: ClockTree, report: Reporter
) -> tuple[Pin, ...]:
    """The pins of a model, with all that writes them."""
    writes: dict[str, list[Write]] = {name: [] for name in model.pin}
    inner = {isr.thing: tuple(event.moment for event in isr.inner) for isr in isrs}
    for kind in WRITERS:
        for name, table in getattr(model, kind).items():
            for pin, given in table.pins.items():
                if pin not in writes:
                    wrong, mend = f'"{pin}" names no pin', did_you_mean(pin, list(writes), "pin")
                    report.complain((kind, name, "pins"), wrong, mend)
                    continue
                for each in given if isinstance(given, list) else [given]:
                    action = each if isinstance(each, PinActionTable) else PinActionTable.model_validate({"does": each})
                    moments = [] if kind == "source" else ["start", "end", *inner.get(Thing(f"{kind}.{name}"), ())]
                    writes[pin] += _write((kind, name), action, moments, clocks, report)
    restarted = frozenset(unit.thing for unit in units if unit.busy == "restart" or not unit.surely_ends)
    return tuple(_pin(model, name, tuple(found), restarted, report) for name, found in writes.items())


def _write(
    thing: Path, table: PinActionTable, moments: list[str], clocks: ClockTree, report: Reporter
) -> Iterator[Write]:
    path = (*thing, "pins")
    if table.for_ is not None and table.does != "pulse":
        report.complain(path, f"for is the length of a pulse, not of {table.does}", "remove it")
    length = None if table.for_ is None else clocks.cost(table.for_, path)
    at = table.at or (moments[0] if moments else "")
    if table.at is not None and table.at not in moments:
        mend = did_you_mean(table.at, moments, "moment") if moments else "a source has but one instant: leave at out"
        report.complain(path, f'"{table.at}" is nothing that happens in it', mend)
        return
    yield Write(Event(".".join((*thing, at) if at else thing)), table.does, length)


def _pin(model: ModelFile, name: str, writes: tuple[Write, ...], unsure: frozenset[str], report: Reporter) -> Pin:
    if not writes:
        report.complain(("pin", name), "nothing writes it", f'write pins = {{ {name} = "high" }} at what does')
    pulses = [write for write in writes if write.does == "pulse"]
    if pulses and len(pulses) < len(writes):
        report.complain(("pin", name), "not yet: a pulse beside other actions", "leave one of them out")
    first = model.pin[name].first
    return Pin(name, None if first is None else int(first == "high"), writes, unsure)


def with_events(name: str, table: NeedTable, pins: Iterable[Pin], report: Reporter) -> NeedTable:
    """The table of a need with the event in place of each edge of a pin that it names.

    An edge is an event where one thing alone writes the pin, so that every such event brings that edge.
    """
    known = {f"{pin.thing}.{edge}": event for pin in pins for edge, event in (("rise", pin.rise), ("fall", pin.fall))}
    changed: dict[str, str] = {}
    for key, field in (("from", "from_"), ("to", "to"), ("of", "of")):
        given = getattr(table, field)
        if not isinstance(given, str) or given not in known:
            continue
        event = known[given]
        if event is None:
            edge = given.rpartition(".")[2]
            report.complain(
                ("need", name, key), f"not yet: not every event that writes the pin brings a {edge}",
                "name the event that is meant, such as isr.NAME.start",
            )  # fmt: skip
        else:
            changed[field] = str(event)
    return table.model_copy(update=changed) if changed else table
