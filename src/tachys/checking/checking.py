"""The check: hold one capture against one model and its bounds."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from itertools import pairwise

import numpy as np
from msgspec.structs import replace

from tachys.capture.inspecting import changes_of, pieces, whole_parts, window
from tachys.capture.table import Capture, Instants
from tachys.checking.board.accepting import EMPTY
from tachys.checking.board.load import busiest_windows, load_seen
from tachys.checking.board.measuring import Measurement, measure
from tachys.checking.board.nesting import ExecutionTimes
from tachys.checking.compare.compared import Compared
from tachys.checking.compare.consequence import corrected
from tachys.checking.compare.figures import compare_figures
from tachys.checking.compare.findings import find_all
from tachys.checking.compare.judging import judge
from tachys.checking.compare.levels import other_levels, with_levels
from tachys.checking.compare.premises import fallen_proofs, undone
from tachys.checking.compare.sentences import sentence
from tachys.checking.compare.unmodelled import look_for_strangers
from tachys.checking.out.pooling import together
from tachys.checking.probes.binding import bind, called_as
from tachys.checking.probes.plausible import first_reason
from tachys.checking.probes.readings import Readings
from tachys.checking.result import (
    BufferCheck,
    CheckResult,
    Finding,
    FlagCheck,
    IsrCheck,
    Seen,
    StepCheck,
    UnitCheck,
    seen,
)
from tachys.model.events import Thing
from tachys.model.system import System
from tachys.words import count_text
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

MOST_PARTS = 200  # of a record with gaps, the longest of them
WHOLE = 1 << 24  # changes that are still looked at in one go: what is measured of each takes up to 24 bytes
PIECE = 10_000_000  # changes in each piece of what is larger


def check(
    system: System,
    capture: Capture,
    bounds: Bounds | None = None,
    *,
    elsewhere: frozenset[str] = frozenset(),
    told: Callable[[int], object] | None = None,
) -> CheckResult:
    """Measure everything that the lines show, compare it with the bounds, judge every need, say what is wrong.

    Nothing is concluded across a gap in the record: its whole parts are checked one by one and put together, and so
    are those between resets, and the pieces of one with more changes than :data:`WHOLE`; ``told`` hears how many
    changes each of them had.
    ``elsewhere``: the signals of other captures of the same board; a probe of one of them may be missing in this one.

    Raises:
        InputError: a probe names a signal that the capture lacks.
    """
    paper = bounds or bounds_of(system)
    system, capture = called_as(system, capture, elsewhere)
    if system.capture_step is not None:
        capture = replace(capture, resolution=system.capture_step)
    resets = _resets(system, capture)
    parts = [piece for part in whole_parts(capture) for piece in _between(part, resets)][:MOST_PARTS]
    if changes_of(capture) > WHOLE:
        parts = [piece for part in parts for piece in pieces(part, PIECE)]
    if len(parts) == 1:
        return _with_left_out(_check_whole(system, capture, paper))

    @lru_cache(maxsize=1)
    def checked(number: int) -> CheckResult:
        result = _check_whole(system, parts[number], paper)
        if parts[number].end + 1 not in resets:
            return result
        # what had to end with the board is no finding of its own
        return replace(result, findings=tuple(each for each in result.findings if each.code != "comes-no-more"))

    results: list[CheckResult] = []
    for number, part in enumerate(parts):
        result = checked(number)
        # what was measured of one at a time fits the memory
        results.append(replace(result, measured=results[0].measured) if results else result)
        if told is not None:
            told(changes_of(part))
    return _with_resets(_with_left_out(together(results, capture, len(resets), checked)), resets)


def _resets(system: System, capture: Capture) -> Instants:
    """When the board began anew: its start-up was seen to begin, and it had been seen before."""
    if system.startup is None:
        return EMPTY
    bodies = bind(system, capture).bodies.get(system.startup.thing)
    return EMPTY if bodies is None else bodies.start[1:]


def _with_resets(result: CheckResult, resets: Instants) -> CheckResult:
    """The same, with a finding where the board was reset; what led to it stands before it."""
    startup = result.bounds.system.startup
    if startup is None or not len(resets):
        return result
    text = f"{sentence('was-reset')} {count_text(len(resets), 'time')}"
    found = Finding("was-reset", startup.thing, text, 0, len(resets), at=int(resets[0]) - 1)
    return replace(result, findings=(*result.findings, found))


def _between(capture: Capture, resets: Instants) -> list[Capture]:
    """The parts of a capture in which the board was not reset."""
    inside = resets[(resets > capture.begin) & (resets <= capture.end)]
    borders = [capture.begin, *(int(at) - 1 for at in inside), capture.end]
    return [window(capture, a, b) for a, b in pairwise(borders) if b > a] if len(inside) else [capture]


def _check_whole(system: System, capture: Capture, paper: Bounds) -> CheckResult:
    modelled, before = paper, measure(system, paper, capture)
    board = before
    system, others = other_levels(board)
    if others:  # what ran on top of what hangs on them
        paper = bounds_of(system)
        board = measure(system, paper, capture)
    figures = compare_figures(board)
    entered = tuple(filter(_is_of_entry, figures))
    if entered:  # it is taken off wherever something ran on top
        system = replace(system, core=corrected(system, entered).core)
        board = measure(system, paper, capture)
        figures = compare_figures(board)
    board, figures, strangers = look_for_strangers(system, paper, capture, board, figures)
    figures = (*(each for each in figures if not _is_of_entry(each)), *entered)
    findings = find_all(board, figures, strangers)
    fallen = fallen_proofs(board, figures, strangers) | undone(board, findings)
    if others:
        fallen |= {name for name, need in modelled.needs.items() if need.need.measures in ("time", "number")}
        findings = with_levels(others, before, board, findings)
    needs = {name: judge(board, need, refuted=name in fallen) for name, need in modelled.needs.items()}
    board.let_go()
    return CheckResult(
        capture,
        modelled,
        board,
        isrs={name: _isr(board, name) for name in board.isrs},
        steps={name: _step(board, name) for name in board.steps},
        units={name: _unit(board, name) for name in board.units},
        flags={
            name: FlagCheck(name, seen(flag.reaction.after, board.resolution), len(flag.overwritten))
            for name, flag in board.flags.items()
        },
        buffers={name: _buffer(board, name) for name in board.buffers},
        periods=_periods(board),
        needs=needs,
        figures=figures,
        findings=findings,
        load=load_seen(board),
        metered=board.metered,
        busiest=busiest_windows(board),
        clock=board.clock,
        unseen=_unseen(board),
        foreign=tuple(board.shown.foreign),
        remarks=(
            *_first(board, figures),
            *capture.remarks,
            *board.shown.remarks,
            *_cannot_show(board),
        ),
        blind=_is_blind(board.shown),
    )


def _is_of_entry(figure: Compared) -> bool:
    return (figure.about, figure.key) == ("core", "entry")


def _is_blind(shown: Readings) -> bool:
    """Whether no line is bound to anything of the model, or none that is ever moves."""
    moves = any(len(instants) for instants in shown.instants.values())
    return not moves and not any(len(bodies.start) for bodies in shown.bodies.values()) and shown.idle is None


def _first(board: Measurement, figures: tuple[Compared, ...]) -> list[str]:
    reason = first_reason(board, figures)
    return [reason] if reason else []


def _cannot_show(board: Measurement) -> list[str]:
    """What lies below the resolution of a capture."""
    least = board.system.core.follows.least
    if len(board.things) > 1 and 0 < least < board.resolution:
        step, gap = board.resolution / 1000, least / 1000
        return [f"a sampling step of {step:g} ns cannot show the {gap:g} ns between two runs that follow each other at "
                "once: such runs of one routine look like one"]  # fmt: skip
    return []


def _unseen(board: Measurement) -> tuple[str, ...]:
    """What nothing shows; a timer that shows in the starts of its routine is not among it."""
    hidden = {runs.isr.on[0].thing for runs in board.isrs.values() if runs.grid is not None}
    hidden |= {Thing(f"unit.{name}") for name in board.system.ticking}
    return tuple(thing for thing in board.shown.unseen if thing not in hidden)


def _with_left_out(result: CheckResult) -> CheckResult:
    """The same, with a remark on events of which it cannot be told what became of them."""
    found = ", ".join(f"{isr.left_out} of isr.{name}" for name, isr in result.isrs.items() if isr.left_out)
    if not found:
        return result
    remark = f"left out, since it cannot be told which run served them: {found}"
    return replace(result, remarks=(*result.remarks, remark))


def _own(own: ExecutionTimes | None, resolution: int) -> Seen | None:
    """Own times, the middle of what each can have been, known to half the widest."""
    if own is None or not len(own.least):
        return None
    width = int((own.most - own.least).max())
    return seen((own.least + own.most) // 2, max(resolution, (width + 1) // 2))


def _isr(board: Measurement, name: str) -> IsrCheck:
    runs = board.isrs[name]
    starts, spans = board.events(f"isr.{name}.start"), runs.spans(board.shown.bodies.get(runs.isr.thing))
    latency = response = None
    if runs.latency is not None:
        values = runs.latency.after
        if runs.matched is not None and runs.isr.serves_all:
            values = values[runs.matched.firsts]
        latency = seen(values, board.resolution, relative=runs.latency.relative)
    if runs.response is not None:
        response = seen(runs.response.after, board.resolution)
    return IsrCheck(
        name, latency, response,
        seen(spans[1], board.resolution) if spans is not None else None,
        _own(runs.cost, board.resolution),
        None if (lost := runs.lost()) is None else lost[1],
        None if starts is None else len(starts),
        len(runs.matched.orphans) if runs.matched else 0,
        runs.matched.left_out if runs.matched else 0,
    )  # fmt: skip


def _step(board: Measurement, name: str) -> StepCheck:
    found, resolution = board.steps[name], board.resolution
    return StepCheck(
        name,
        seen(found.interval, resolution) if found.interval is not None else None,
        seen(found.duration, resolution) if found.duration is not None else None,
        _own(found.own, resolution),
        seen(found.late.after, resolution, relative=True) if found.late is not None else None,
    )


def _unit(board: Measurement, name: str) -> UnitCheck:
    paired = board.units[name].paired
    if paired is None:
        return UnitCheck(name, None, None)
    return UnitCheck(name, seen(paired.after, board.resolution), len(paired.lost) if paired.judged else None)


def _buffer(board: Measurement, name: str) -> BufferCheck:
    lost = board.lost_items(name)
    return BufferCheck(name, board.buffers[name].deepest, 0 if lost is None else len(lost))


def _periods(board: Measurement) -> dict[str, Seen]:
    """Distances between neighbouring events, for every event of which at least two were seen."""
    found = {name: seen(np.diff(at), board.resolution) for name, at in board.shown.instants.items()}
    return {name: value for name, value in found.items() if value is not None}
