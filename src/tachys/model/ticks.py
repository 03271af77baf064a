"""Steps that are due with each so many-th of an event, written as what such a timer in software is made of.

A unit counts the ticks. What becomes of one that the loop is too late for is what the timer's code says: on the grid
each is made up for, so they wait in a buffer; to skip them a flag is enough; and one that begins anew with the step
counts from there on.
"""

from __future__ import annotations

from tachys.model.names import ticks_of
from tachys.model.report import Reporter
from tachys.model.schema import (
    BufferTable,
    CountTable,
    DrainTable,
    FlagTable,
    ModelFile,
    UnitTable,
)

MOST_LATE = 1000  # times that a step can be behind its timer


def with_ticks(model: ModelFile, report: Reporter) -> ModelFile:
    """The model with a unit, and a buffer or a flag, for each step that is due by ticks."""
    due = {name: (table, table.every) for name, table in model.step.items() if isinstance(table.every, CountTable)}
    if not due:
        return model
    units, flags, buffers, steps = dict(model.unit), dict(model.flag), dict(model.buffer), dict(model.step)
    for name, (table, every) in due.items():
        timer = ticks_of(name)
        for kind, known in (("unit", model.unit), ("flag", model.flag), ("buffer", model.buffer)):
            if timer in known:
                report.complain((kind, timer), f"is what counts the ticks of step.{name}", "choose another name")
        for key in ("polls", "drains"):
            if getattr(table, key):
                report.complain(("step", name, key), "not yet beside every in ticks", "let a step of its own do it")
        if table.rearm == "now":
            units[timer] = UnitTable(on=f"step.{name}.start", counts=every, primed=True)
        else:
            units[timer] = UnitTable(counts=every, repeats=True, primed=True)
        if table.rearm == "grid":
            buffers[timer] = BufferTable(depth=MOST_LATE, fed_by=f"unit.{timer}")
            more = {
                "polls": f"buffer.{timer}",
                "drains": DrainTable.model_validate({"from": f"buffer.{timer}", "most": 1}),
            }
        else:
            flags[timer] = FlagTable(set_by=f"unit.{timer}")
            more = {"polls": timer}
        steps[name] = table.model_copy(update={"every": None, "rearm": "grid", **more})
    return model.model_copy(update={"unit": units, "flag": flags, "buffer": buffers, "step": steps})
