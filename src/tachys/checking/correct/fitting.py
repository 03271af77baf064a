"""Measured figures back into the model file: comments, order and everything else stay as they are.

A figure that a capture refutes is widened until it holds what was seen, with a margin if that is asked for. What was
seen is never proof that nothing worse comes, so a figure is made tighter only on demand.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from math import ceil, floor
from typing import Any

import numpy as np
import tomlkit
from msgspec import Struct
from msgspec.structs import replace
from tomlkit.items import Array, InlineTable, Item, Table

from tachys.capture.table import Capture
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement, Compared
from tachys.checking.compare.findings import likely_mistakes
from tachys.checking.compare.rhythm import Rhythm
from tachys.checking.result import CheckResult
from tachys.model.loading import read_model
from tachys.model.names import STARTUP, due_by_ticks
from tachys.model.nodes import Isr, Source, Step
from tachys.model.quantities import Range
from tachys.model.system import System
from tachys.words import pico_text

MARK = "measured: "
_UNITS = ((10**12, "s"), (10**9, "ms"), (10**6, "us"), (10**3, "ns"), (1, "ps"))


class Change(Struct, frozen=True):
    """One value of the file: where it stands, what it was and what it becomes; ``why`` in words."""

    key: str
    was: str
    becomes: str
    why: str


class Fitted(Struct, frozen=True):
    """The new text of a model, what was changed, and what would need changing but is no value that can be written."""

    text: str
    changes: tuple[Change, ...]
    left: tuple[str, ...]


def fit(
    text: str, file: str, captures: Sequence[Capture], today: str, *, margin: Fraction = Fraction(0),
    tighten: bool = False,
) -> Fitted:  # fmt: skip
    """Fit a model to captures, one after the other; ``today`` is written beside each change.

    Raises:
        InputError: the model is wrong, or a probe names a signal that a capture lacks.
    """
    changes: dict[str, Change] = {}
    left: dict[str, None] = {}
    shown = frozenset(name for capture in captures for name in capture.signals)
    for number, capture in enumerate(captures):
        result = check(read_model(text, file), capture, elsewhere=shown)
        writer = _Writer(text, f"{MARK}{_short(capture.file)}, {today}", margin)
        for figure in result.figures:
            if figure.state is Agreement.REFUTES or (tighten and number == 0 and figure.measured is not None):
                writer.put(figure, result, tighten=tighten)
        text = writer.text()
        for change in writer.changes:
            before = changes.get(change.key)
            changes[change.key] = change if before is None else Change(
                change.key, before.was, change.becomes, change.why
            )  # fmt: skip
        left |= dict.fromkeys(writer.left)
        left |= dict.fromkeys(_beyond_figures(check(read_model(text, file), capture, elsewhere=shown)
                                              if writer.changes else result))  # fmt: skip
    return Fitted(text, tuple(changes.values()), tuple(left))


def _beyond_figures(result: CheckResult) -> Iterator[str]:
    """What a check finds that no figure of the model says."""
    refuted = {(figure.about, figure.key) for figure in result.figures if figure.state is Agreement.REFUTES}
    for each in result.findings:
        if (each.about, each.code.rpartition("-")[0]) not in refuted:
            yield f"{each.about}: {each.text}"


def _short(file: str) -> str:
    return file.rsplit("/", 1)[-1].replace("\n", " ")


def quantity(ps: int | Fraction, *, up: bool) -> str:
    """A time as it is written in a model, to four digits, rounded so that it stays on the safe side."""
    scale, unit = next((pair for pair in _UNITS if ps >= pair[0]), _UNITS[-1])
    parts = 1000 if ps < 10 * scale else 100 if ps < 100 * scale else 10
    step = Fraction(scale, parts) if scale > parts else Fraction(1)
    value = Fraction(ceil(ps / step) if up else floor(ps / step)) * step / scale
    whole = f"{float(value):.6f}".rstrip("0").rstrip(".")
    return f"{whole} {unit}"


def exact_quantity(ps: int | Fraction) -> str:
    """A period to the last picosecond."""
    scale, unit = next((pair for pair in _UNITS if ps >= pair[0]), _UNITS[-1])
    digits = len(str(scale)) - 1
    return f"{float(Fraction(ps) / scale):.{digits}f}".rstrip("0").rstrip(".") + f" {unit}"


def _without_marks(figure: Compared, system: System) -> Compared:
    """A figure of a body as the file has it."""
    measured, body = figure.measured, system.nodes.get(figure.about)
    told = figure.key in ("cost", "time", "nth") or figure.key.startswith("moments.")
    if not system.mark.most or measured is None or not told or not isinstance(body, Isr | Step):
        return figure
    least, most = _less(measured.least, measured.most, body.marks_in(figure.key, system.mark))
    return replace(figure, measured=replace(measured, least=least, most=most))


def _less(least: int, most: int, marks: Range) -> tuple[int, int]:
    """A range without the marks in it."""
    return max(0, least - marks.most), max(0, most - marks.least)


class _Writer:
    def __init__(self, text: str, note: str, margin: Fraction) -> None:
        self.document = tomlkit.parse(text)
        self.note = note
        self.margin = margin
        self.changes: list[Change] = []
        self.left: list[str] = []

    def text(self) -> str:
        """The file as it is now."""
        return tomlkit.dumps(self.document)

    def put(self, figure: Compared, result: CheckResult, *, tighten: bool) -> None:
        """Write one figure, if it is one that stands in the file."""
        kind, name = figure.about.kind, figure.about.name
        figure = _without_marks(figure, result.bounds.system)
        if figure.of_current:
            self._current(figure, result)
            return
        if kind == "core":
            self._range(self.document["core"], "core", figure.key, figure, tighten=tighten)
            return
        if kind not in ("apart", "source", "unit", "isr", "step"):
            return
        due = due_by_ticks(name, self.document.get("step", {})) if kind == "unit" else None
        if due is not None:
            assert figure.measured is not None
            steps: Any = self.document["step"]
            self._set(steps[due]["every"], f"step.{due}.every", "n", figure.measured.most, figure)
            return
        startup = figure.about == f"step.{STARTUP}"
        where = STARTUP if startup else f"{kind}.{name}"
        table: Any = self.document[STARTUP] if startup else self.document[kind][name]
        several = "parts" if "then" in table else "cost and pause" if kind == "isr" and "pause" in table else ""
        if several and figure.key in ("cost", "time") and figure.measured is not None:
            if figure.state is Agreement.REFUTES:
                took = exact_quantity(figure.measured.most)
                self.left.append(f"{where}: no line tells in which of its {several} it took {took} in all")
            return
        refuted = figure.state is Agreement.REFUTES
        if figure.asleep:
            self.left.append(f"{where}: it seems to stand still in sleep; write its clock into stops of that sleep")
        elif figure.rhythm is not None:
            self._nth(table, where, figure, figure.rhythm)
        elif figure.key == "counts":
            assert figure.measured is not None
            self._set(table["counts"], f"{where}.counts", "n", figure.measured.most, figure)
        elif figure.key == "answers" and refuted:
            assert figure.measured is not None
            share = min(999_999, max(1, figure.measured.most))
            self._set(table, where, "answers", f"{share / 10**4:.3g} %", figure)
        elif figure.key == "nth":
            self._range(table["nth"], f"{where}.nth", "cost", figure, tighten=tighten)
        elif figure.key.startswith("moments."):
            name_of = figure.key.partition(".")[2]
            self._range(table["moments"], f"{where}.moments", name_of, figure, tighten=tighten)
        elif figure.key in ("cost", "each", "takes"):
            self._range(table, where, figure.key, figure, tighten=tighten)
        elif not refuted:
            if tighten and figure.key == "gap":
                self._gap(table, where, figure)
        elif figure.key == "gap":
            self._gap(table, where, figure)
        elif figure.key == "guard":
            self._guard(table, where, figure, result)
        elif figure.key == "jitter":
            assert figure.measured is not None
            most = figure.measured.most + 2 * figure.measured.resolution
            self._set(table, where, "jitter", quantity(self._more(most), up=True), figure)
        elif figure.key == "within":
            assert figure.measured is not None
            lasts = quantity(self._more(figure.measured.most + figure.measured.resolution), up=True)
            self._set(table["burst"], f"{where}.burst", "within", lasts, figure)
        elif figure.key == "burst":
            self._burst(table, where, figure, result)
        elif figure.key in ("period", "every"):
            self._period(table, where, figure, result)
        elif figure.key == "time":
            self._blocks(table, where, figure, result)

    # --- values -------------------------------------------------------------------------------------------------

    def _more(self, ps: int) -> Fraction:
        return ps * (1 + self.margin)

    def _less(self, ps: int) -> Fraction:
        return max(Fraction(0), ps * (1 - self.margin))

    def _set(self, table: Any, path: str, key: str, value: Any, figure: Compared, shown: str | None = None) -> None:
        """Put a value in place of the old one, and the note behind it."""
        old = table.get(key)
        was = "-" if old is None else _plain(old)
        becomes = shown or _plain(value)
        if was == becomes:
            return
        comment = _kept_comment(old)
        table[key] = value
        item = table.item(key) if hasattr(table, "item") else table[key]
        if isinstance(item, Item) and not isinstance(table, InlineTable):
            item.comment(f"{comment}; {self.note}" if comment else self.note)
        self.changes.append(Change(f"{path}.{key}", was, becomes, _why(figure)))

    def _range(self, table: Any, path: str, key: str, figure: Compared, *, tighten: bool) -> None:
        measured = figure.measured
        assert measured is not None
        assert figure.low is not None
        assert figure.high is not None
        seen_least, seen_most = max(0, measured.least - measured.resolution), measured.most + measured.resolution
        most = quantity(self._more(seen_most), up=True) if figure.beyond or tighten else None
        least = quantity(self._less(seen_least), up=False) if figure.below or tighten else None
        old = table.get(key)
        if isinstance(old, (Table, InlineTable)):
            self.left.append(f"{path}.{key} differs by event: widen the one that is meant by hand")
            return
        if old is None:  # nothing was written, so it counted as 0, or as others say
            old = exact_quantity(figure.high)
        pair = [str(each) for each in old] if isinstance(old, Array) else [str(old), str(old)]
        pair = [least or pair[0], most or pair[1]]
        value: Any = pair[0] if pair[0] == pair[1] else tomlkit.array()
        if pair[0] != pair[1]:
            value.extend(pair)
        self._set(table, path, key, value, figure)

    def _current(self, figure: Compared, result: CheckResult) -> None:
        """A supply current: the end of a range that is refuted, or one value in place of another."""
        measured, about = figure.measured, figure.about
        assert measured is not None
        document: Any = self.document
        table = document["core"]["current"] if about == "core" else document[about.kind][about.name]
        path, key = ("core.current", figure.key.partition(".")[2]) if about == "core" else (str(about), "current")
        old = table[key]
        pair = [str(each) for each in old] if isinstance(old, Array) else []
        per_clock = str(pair[0] if pair else old).rstrip().endswith("/MHz")
        scale = result.bounds.system.core.clock.hertz / 10**6 if per_clock else Fraction(1)

        def written(picoamperes: int) -> str:
            return pico_text(round(max(0, picoamperes) / scale)) + ("/MHz" if per_clock else "")

        value: Any = written(measured.most)
        if pair:
            value = tomlkit.array()
            value.extend([
                written(measured.least - measured.resolution) if figure.below else pair[0],
                written(measured.most + measured.resolution) if figure.beyond else pair[1],
            ])  # fmt: skip
        self._set(table, path, key, value, figure)

    def _nth(self, table: Any, path: str, figure: Compared, rhythm: Rhythm) -> None:
        """What each n-th run does more: another n, or a table where there is none."""
        known, made = table.get("nth"), tomlkit.inline_table()
        made["n"] = rhythm.n
        pair = tomlkit.array()
        pair.extend(
            [quantity(self._less(rhythm.longer.least), up=False), quantity(self._more(rhythm.longer.most), up=True)]
        )
        made["cost"] = pair
        for key in known or ():
            if key not in ("n", "cost", "first"):
                made[key] = known[key]
        self._set(table, path, "nth", made, figure)

    def _gap(self, table: Any, path: str, figure: Compared) -> None:
        measured = figure.measured
        assert measured is not None
        if "gap" not in table:
            self.left.append(
                f"{path}: its least distance is not written as a gap: two came {measured.least / 1e6:g} us apart"
            )
            return
        least = self._less(max(1, measured.least - measured.resolution))
        self._set(table, path, "gap", quantity(least, up=False), figure)

    def _burst(self, table: Any, path: str, figure: Compared, result: CheckResult) -> None:
        burst, name = table["burst"], path.partition(".")[2]
        events = result.board.events(path)
        old = result.bounds.system.source(name).burst
        assert events is not None
        assert old is not None
        slack = result.capture.known_to
        apart = int(np.diff(events).min()) - slack
        rounds = (
            int((events[old.count :] - events[: -old.count]).min()) - slack if len(events) > old.count else old.every
        )
        spaced, every = min(old.spaced, apart), min(old.every, rounds)
        was = _plain(burst)
        burst["spaced"] = quantity(self._less(spaced), up=False)
        burst["every"] = quantity(self._less(every), up=False)
        self.changes.append(Change(f"{path}.burst", was, _plain(burst), _why(figure)))

    def _guard(self, table: Any, path: str, figure: Compared, result: CheckResult) -> None:
        """Lengthen the guard that holds off such lines; write one where there is none."""
        measured, system = figure.measured, result.bounds.system
        assert measured is not None
        assert figure.urgency is not None
        length = quantity(self._more(measured.most + 2 * measured.resolution), up=True)
        level = system.core.level_text(figure.urgency)
        old = table.get("guard")
        holding = old if isinstance(old, (Table, InlineTable)) else None
        if isinstance(old, Array):
            holding = max(
                (each for each in old if isinstance(each, InlineTable)), key=lambda each: str(each.get("for"))
            )
        if old is None:
            made = tomlkit.inline_table()
            made.update({"level": level, "for": length})
            self._set(table, path, "guard", made, figure)
        elif holding is not None:
            was = _plain(holding)
            held = _held_level(system.core.lowest_is_urgent, int(holding["level"]), level)
            known = self._known_length(path, holding)
            if known is None or Fraction(measured.most) > known:
                holding["for"] = length
            holding["level"] = held
            if _plain(holding) != was:
                key = f"{path}.guard"
                self._note(table, "guard")
                before = next((each.was for each in self.changes if each.key == key), was)
                self.changes = [each for each in self.changes if each.key != key]
                self.changes.append(Change(key, before, _plain(holding), _why(figure)))
        self._hold_it(table, path, figure, result)

    def _known_length(self, path: str, holding: Any) -> Fraction | None:
        from tachys.model.quantities import parse_positive_duration

        if any(each.key == f"{path}.guard" for each in self.changes):
            return parse_positive_duration(str(holding["for"])).amount
        return None

    def _hold_it(self, table: Any, path: str, figure: Compared, result: CheckResult) -> None:
        """A body costs at least what it holds off."""
        body = result.bounds.system.nodes[figure.about]
        assert isinstance(body, Isr | Step)
        assert figure.measured is not None
        start = max((guard.at.most for guard in body.guards), default=0)
        need = int(self._more(figure.measured.most + 2 * figure.measured.resolution)) + start
        if need > body.cost.most:
            pair = tomlkit.array()
            least, most = _less(body.cost.least, need, body.marks_in("cost", result.bounds.system.mark))
            pair.extend([quantity(least, up=False), quantity(most, up=True)])
            self._set(table, path, "cost", pair, figure)

    def _period(self, table: Any, path: str, figure: Compared, result: CheckResult) -> None:
        kind, _, name = path.partition(".")
        measured = figure.measured
        assert measured is not None
        if "every" in table:
            self._set(table, path, "every", exact_quantity(measured.most), figure)
            return
        source = result.bounds.system.source(name) if kind == "source" else None
        if source is None or source.timer is None or "timer" not in table:
            self.left.append(f"{path}: its period is measured as {exact_quantity(measured.most)}")
            return
        self._timer(table, path, figure, result, source)

    def _timer(self, table: Any, path: str, figure: Compared, result: CheckResult, source: Source) -> None:
        """The registers that the ratio reader points at."""
        assert source.timer is not None
        assert source.period is not None
        assert figure.measured is not None
        found = likely_mistakes(result.bounds.system, source, figure.measured)
        code = found[0].code if found else ""
        prescale, count = source.timer.setting.prescale, source.timer.setting.count
        values = {
            "prescaler-unset": (1, count), "count-plus-one": (prescale, count + 1),
            "count-minus-one": (prescale, count - 1), "prescale-plus-one": (prescale + 1, count),
            "prescale-minus-one": (prescale - 1, count), "prescaler-plus-one": (prescale + 1, count),
            "prescaler-minus-one": (prescale - 1, count),
        }.get(code)  # fmt: skip
        if values is None:
            period = exact_quantity(figure.measured.most)
            self.left.append(f"{path}: its period is measured as {period}, which no single register gives")
            return
        timer, was = table["timer"], _plain(table["timer"])
        width = source.timer.counter.width
        for key, value in (("prescale", values[0]), ("prescale_register", values[0] - 1), ("count", values[1]),
                           ("reload_register", values[1] - 1), ("preload", (1 << width) - values[1])):  # fmt: skip
            if key in timer:
                timer[key] = value
        self._note(table, "timer")
        self.changes.append(Change(f"{path}.timer", was, _plain(timer), _why(figure)))

    def _blocks(self, table: Any, path: str, figure: Compared, result: CheckResult) -> None:
        """What a step took beyond its pause and its wait: as cost, since it may be no less at other times."""
        measured = figure.measured
        assert measured is not None
        step = result.bounds.system.step(path.partition(".")[2])
        most = self._more(measured.most + measured.resolution) - step.spins
        if not figure.beyond:
            self.left.append(f"{path}: it was done after {measured.least / 1e6:g} us of its own")
            return
        pair = tomlkit.array()
        least, _ = _less(step.cost.least, 0, step.marks_in("cost", result.bounds.system.mark))
        pair.extend([quantity(least, up=False), quantity(most, up=True)])
        self._set(table, path, "cost", pair, figure)

    def _note(self, table: Any, key: str) -> None:
        item = table.item(key) if hasattr(table, "item") else table[key]
        if isinstance(item, Item) and not isinstance(table, InlineTable):
            comment = _kept_comment(item)
            item.comment(f"{comment}; {self.note}" if comment else self.note)


def _held_level(lowest_is_urgent: bool, one: int, other: int) -> int:
    """The more urgent of two levels: what holds that off holds off both."""
    return min(one, other) if lowest_is_urgent else max(one, other)


def _why(figure: Compared) -> str:
    if figure.state is Agreement.REFUTES:
        return "refuted" + (f": {figure.why}" if figure.why else "")
    return "as measured"


def _kept_comment(item: Any) -> str:
    """The comment behind a value without what an earlier fit has noted there."""
    if not isinstance(item, Item):
        return ""
    comment = item.trivia.comment.lstrip("# ").rstrip()
    return comment.split(MARK)[0].rstrip("; ")


def _plain(value: Any) -> str:
    if isinstance(value, Item):
        return value.as_string() if not isinstance(value, str) else str(value)
    return str(value)
