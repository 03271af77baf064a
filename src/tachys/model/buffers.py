"""Buffers of a model file: who feeds and who drains each, and which of their keys go together."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec import Struct

from tachys.model.acts import MOST_IN_A_ROW, Drain, Put
from tachys.model.clocks import ClockTree
from tachys.model.events import Event
from tachys.model.flags import as_names, polled_by
from tachys.model.nodes import Buffer, Feed
from tachys.model.quantities import LONGEST_PS, PS_PER_SECOND, ZERO, Range
from tachys.model.report import Path, Reporter
from tachys.model.schema import BufferTable, DrainTable, FeedTable, IsrTable, ModelFile, PutTable, StepTable


class Buffers(Struct, frozen=True):
    """The buffers of a model file, while routines, steps and units are made."""

    model: ModelFile
    clocks: ClockTree
    report: Reporter

    def made(self) -> tuple[Buffer, ...]:
        """All buffers, judged."""
        return tuple(self._buffer(name, table) for name, table in self.model.buffer.items())

    def _buffer(self, name: str, table: BufferTable) -> Buffer:
        path: Path = ("buffer", name)
        fed_by = tuple(
            Feed(Event.written(each.event), each.items) if isinstance(each, FeedTable) else Feed(Event.written(each))
            for each in (table.fed_by if isinstance(table.fed_by, list) else [table.fed_by])
        )
        if any(feed.items > 10**6 for feed in fed_by):
            self.report.complain((*path, "fed_by"), "so many items at once are none", "write at most 1000000")
        threshold = _threshold(table)
        for key, many in (("threshold", threshold), ("asks_each", table.asks_each)):
            if many is not None and many > table.depth:
                self.report.complain(
                    (*path, key), f"it never asks: no more than {table.depth} are ever in", "write at most its depth"
                )
        if table.threshold and table.asks_each is not None:
            self.report.complain((*path, "threshold"), "not yet beside asks_each", "write one of them")
        quiet = None if table.quiet is None else self.clocks.cost(table.quiet, (*path, "quiet"))
        if quiet is not None and quiet.least == 0:
            self.report.complain((*path, "quiet"), "is 0", "write how long nothing comes, or leave it out")
        self._judge_ends(path, name, fed_by, table)
        room_in = self._room_in(path, name, table)
        return Buffer(name, table.depth, fed_by, threshold, quiet, table.asks_each, table.full == "overwrite", room_in)

    def _room_in(self, path: Path, name: str, table: BufferTable) -> str | None:
        """The buffer in which there must be room for this one to ask."""
        into = next((puts.into for _, puts in self._waiting(name)), None)
        if into is None:
            return None
        if table.quiet is not None or table.asks_each is not None or _threshold(table) != 1 or table.full != "lose":
            self.report.complain(
                path, f"not yet: who moves it on waits for room in {into}, and so it asks while anything is in",
                "leave threshold, quiet, asks_each and full out",
            )  # fmt: skip
        return into.removeprefix("buffer.")

    def _waiting(self, name: str) -> Iterator[tuple[str, PutTable]]:
        """The routines that drain a buffer and wait for room where they put what they have drained."""
        for isr, table in self.model.isr.items():
            if _drained(table.drains) == f"buffer.{name}" and table.puts is not None and table.puts.full == "wait":
                yield isr, table.puts

    def _sent_by(self, name: str) -> tuple[str, int] | None:
        """(the unit that works off what is put into a buffer, how many it and the buffers before it hold)."""
        way = [f"buffer.{name}", *(puts.into for _, puts in self._waiting(name))][:2]
        for unit, each in self.model.unit.items():
            if each.drains in way:
                passed = [self.model.buffer.get(into.removeprefix("buffer.")) for into in way]
                return unit, 1 + sum(buffer.depth for buffer in passed if buffer is not None)
        return None

    def _judge_ends(self, path: Path, name: str, fed_by: tuple[Feed, ...], table: BufferTable) -> None:
        drains, puts, moves = list(self._drains(name)), _putting(self.model.step, name), _putting(self.model.isr, name)
        puts, moves = [f"step.{step}" for step in puts], [f"isr.{isr}" for isr in moves]
        complain = self.report.complain
        if len(drains) != 1:
            wrong = f"{' and '.join(drains)} drain it" if drains else "nothing drains it"
            complain(path, wrong, f'let one routine, step or unit say drains = "buffer.{name}"')
        if not fed_by and not puts and not moves:
            complain(path, "nothing feeds it", 'write for instance fed_by = "source.byte"')
        if moves and len(moves) + len(puts) + len(fed_by) > 1:
            complain(
                path, f"not yet: {moves[0]} moves into it what it has drained, and others feed it", "let that be all"
            )
        elif puts and fed_by:
            complain(
                (*path, "fed_by"), f"not yet: {puts[0]} puts into it too, and waits for room",
                "let either events or steps feed it",
            )  # fmt: skip
        if puts and drains and not drains[0].startswith("unit.") and not any(self._waiting(name)):
            complain(
                ("step", puts[0].partition(".")[2], "puts"), f"not yet: waits for room that {drains[0]} makes",
                "let a unit drain it, or a routine that moves what it has drained into what a unit drains",
            )  # fmt: skip
        if _asks_from(table) is None and table.quiet is None and any(self._asked(name)):
            complain(path, "it never asks for service", "write a threshold, quiet or asks_each")
        asks = (table.quiet, table.asks_each, table.threshold if table.threshold != 1 else None)
        if drains and drains[0].startswith("unit.") and any(asks):
            complain(
                path, f"{drains[0]} takes whatever is in, and waits for no request",
                "leave threshold, quiet and asks_each out",
            )  # fmt: skip
        for need, each in self.model.need.items():
            if each.of == f"buffer.{name}" and each.fill is not None and each.fill >= table.depth:
                complain(
                    ("need", need, "fill"),
                    f"buffer.{name} holds {table.depth}, so that it always holds",
                    "ask for less",
                )
        if table.full == "overwrite" and puts:
            complain((*path, "full"), f"{puts[0]} waits for room in it, so it is never overwritten", "leave it out")
        moving = [f"isr.{isr}" for isr, each in self.model.isr.items() if each.puts and f"isr.{isr}" in drains]
        if table.full == "overwrite" and moving:
            complain((*path, "full"), f"not yet: {moving[0]} moves on what it has drained of it", 'write full = "lose"')

    def _drains(self, name: str) -> Iterator[str]:
        for kind, tables in (("unit", self.model.unit), ("isr", self.model.isr), ("step", self.model.step)):
            for taker, table in tables.items():
                if _drained(table.drains) == f"buffer.{name}":
                    yield f"{kind}.{taker}"

    def _asked(self, name: str) -> Iterator[str]:
        """What begins at its request."""
        for isr, table in self.model.isr.items():
            if f"buffer.{name}" in as_names(table.on):
                yield f"isr.{isr}"
        for step, each in self.model.step.items():
            if f"buffer.{name}" in polled_by(each):
                yield f"step.{step}"

    # --- who drains, who puts --------------------------------------------------------------------------------------

    def drain(self, path: Path, table: IsrTable | StepTable) -> Drain | None:
        """What a routine or step drains."""
        complain, given = self.report.complain, table.drains
        asks = as_names(table.on) if isinstance(table, IsrTable) else polled_by(table)
        key = "on" if isinstance(table, IsrTable) else "polls"
        named = _drained(given)
        for asked in asks:
            if Event(asked).requests and asked != named:
                complain((*path, key), f"not yet: who is asked by {asked} drains it too", f'add drains = "{asked}"')
        if named is None:
            if table.each is not None:
                complain((*path, "each"), "is what each item costs that it drains", 'add drains = "buffer.NAME"')
            return None
        buffer = self.model.buffer.get(named.removeprefix("buffer."))
        if buffer is None:
            return None
        if isinstance(table, StepTable) and asks and asks != (named,):
            complain((*path, "polls"), "not yet: what drains a buffer polls nothing else", f'write polls = "{named}"')
        if isinstance(table, StepTable) and asks and table.every is not None:
            complain((*path, "every"), "not yet beside polls of a buffer", "write one of them")
        if isinstance(table, StepTable) and table.waits:
            complain((*path, "drains"), "not yet beside waits", "let a step of its own drain it")
        if isinstance(table, IsrTable) and table.serves == "all":
            complain((*path, "serves"), "not yet: with drains a run serves one request", "leave it out")
        most = buffer.depth if not isinstance(given, DrainTable) or given.most is None else given.most
        until = isinstance(given, DrainTable) and given.until is not None
        if until:
            self._judge_until(path, table, given, buffer)
        enough = _asks_from(buffer) or 1
        if named in asks and most < enough:
            complain(
                (*path, "drains"), f"not yet: a run takes {most}, and it is asked from {enough} on only",
                f"let it take {enough} at least",
            )  # fmt: skip
        each = ZERO if table.each is None else self.clocks.cost(table.each, (*path, "each"))
        most = min(most, buffer.depth)
        puts = table.puts if isinstance(table, IsrTable) else None
        if puts is not None and puts.full == "wait" and puts.into.removeprefix("buffer.") in self.model.buffer:
            most = min(most, self.model.buffer[puts.into.removeprefix("buffer.")].depth)
        if (MOST_IN_A_ROW if until else most) * each.most > LONGEST_PS:
            complain(
                (*path, "each"), "so many items take longer than Tachys can count",
                f"depth times each is at most {LONGEST_PS // PS_PER_SECOND} s",
            )  # fmt: skip
        sure = 0
        if set(asks) == {named}:  # of those that ask each time after so many, one may have been taken by the run before
            odd = buffer.asks_each is not None and (until or most > enough or buffer.full == "overwrite")
            sure = 1 if buffer.quiet is not None or odd else enough
        items = Range(min(sure, most), MOST_IN_A_ROW if until else most)
        return Drain(named.removeprefix("buffer."), most, each, items, until)

    def _judge_until(
        self, path: Path, table: IsrTable | StepTable, given: str | DrainTable | None, buffer: BufferTable
    ) -> None:
        """What goes on until nothing is in."""
        place = (*path, "drains", "until")
        if isinstance(table, IsrTable) and table.puts is not None and table.puts.full == "wait":
            self.report.complain(
                place, 'not yet with full = "wait": it takes no more than find room as it begins', "leave until out"
            )
        if isinstance(given, DrainTable) and given.most is not None:
            self.report.complain(place, "takes all that comes, and most only so many", "write one of them")
        if buffer.full == "overwrite":
            self.report.complain(place, 'not yet with full = "overwrite"', "leave until out")

    def moves_to(self, path: Path, table: IsrTable) -> str | None:
        """The buffer into which a routine puts what it has drained."""
        if table.puts is None:
            return None
        into = table.puts.into.removeprefix("buffer.")
        if table.puts.items != "drained":
            self.report.complain(
                (*path, "puts"), "not yet: a routine puts what it has drained", 'write items = "drained"'
            )
        elif table.drains is None:
            self.report.complain((*path, "puts"), "it drains nothing that it could put", 'add drains = "buffer.NAME"')
        elif _drained(table.drains) == table.puts.into:
            self.report.complain((*path, "puts"), "puts back into what it drains", "name another buffer")
        elif table.puts.full == "wait":
            self._judge_waiting(path, table, into)
        return into if into in self.model.buffer else None

    def _judge_waiting(self, path: Path, table: IsrTable, into: str) -> None:
        """A routine that waits for room as it moves on what it drains."""
        drained = _drained(table.drains)
        if as_names(table.on) != (drained,):
            self.report.complain(
                (*path, "puts"), f'not yet: with full = "wait" the routine is asked by {drained} alone',
                f'write on = "{drained}"',
            )  # fmt: skip
        units = [each for each in self.model.unit.values() if each.drains == f"buffer.{into}" and not each.on]
        if into in self.model.buffer and not units:
            self.report.complain(
                (*path, "puts"), 'not yet: full = "wait" goes into what a unit drains that takes one whenever it is at '
                "rest", f'let a unit without on say drains = "buffer.{into}"',
            )  # fmt: skip

    def put(self, path: Path, table: PutTable) -> Put | None:
        """What a step puts into a buffer that a unit works off; how long it can spin is narrowed later."""
        name = table.into.removeprefix("buffer.")
        buffer = self.model.buffer.get(name)
        if table.items == "drained":
            self.report.complain((*path, "puts"), "not yet: a step puts so many", "write items = [20, 80]")
            return None
        items = [table.items] * 2 if isinstance(table.items, int) else table.items
        if len(items) != 2 or items[0] > items[1] or not items[1]:
            self.report.complain((*path, "puts"), f"items = {table.items} is no number and no range", "write [20, 80]")
            return None
        if table.full is not None:
            self.report.complain((*path, "puts"), "a step waits for room by itself", "leave full out")
        sent = self._sent_by(name)
        if buffer is None or sent is None:
            return None
        unit, held = sent
        if self.model.unit[unit].on:
            self.report.complain(
                (*path, "puts"), f"not yet: unit.{unit} makes room only as it is asked", "let it drain without on"
            )
        takes = self.clocks.cost(self.model.unit[unit].takes, ("unit", unit, "takes"))
        if items[1] * takes.most > LONGEST_PS:
            self.report.complain((*path, "puts"), "so many items take longer than Tachys can count", "write fewer")
            return None
        # on a line at rest the unit has one, and each buffer as many as it holds; else one goes in as one leaves
        least = max(0, items[0] - held)
        return Put(name, Range(*items), Range(least * takes.least, items[1] * takes.most))


def _threshold(table: BufferTable) -> int | None:
    """From how many on a buffer asks by its level: from one on, unless something else is written."""
    if table.threshold is None:
        return 1 if table.asks_each is None else None
    return table.threshold or None


def _asks_from(table: BufferTable) -> int | None:
    return _threshold(table) or table.asks_each


def _drained(given: str | DrainTable | None) -> str | None:
    """The buffer that ``drains`` names."""
    return given.from_ if isinstance(given, DrainTable) else given


def _putting(tables: Mapping[str, IsrTable] | Mapping[str, StepTable], buffer: str) -> list[str]:
    """The names of those that put into a buffer."""
    named = f"buffer.{buffer}"
    parts = {name: [table, *table.then] if isinstance(table, StepTable) else [table] for name, table in tables.items()}
    return [name for name, each in parts.items() if any(part.puts and part.puts.into == named for part in each)]
