"""What is wrong, and what it accounts for: the figures that are refuted first, then what they do not explain.

A refuted figure goes into the model as it was measured, and the bounds are worked out again. What lies beyond the old
bounds but within the new ones is explained by it; the figure that explains most stands first. What is left is matched
against what usually lies behind it: a routine that the model does not have, a wake-up that was lost, a line that
something else raises as well.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

import numpy as np
from msgspec import Struct

from tachys.capture.table import Instants
from tachys.checking.board.accepting import EMPTY
from tachys.checking.board.measuring import Measurement
from tachys.checking.board.nesting import NOBODY
from tachys.checking.board.unseen import hidden_pass, unseen_routines, unseen_work
from tachys.checking.board.waits import Cause, causes_of, stretches_of
from tachys.checking.compare.compared import MILLION, Compared, Measured
from tachys.checking.compare.consequence import corrected
from tachys.checking.compare.figures import MEANWHILE
from tachys.checking.compare.items import OWN_LONGER, overfull, rests_on, took_fewer, unshown_on_top
from tachys.checking.compare.pace import paces, storm
from tachys.checking.compare.pins import pin_findings
from tachys.checking.compare.premises import refuted_figures
from tachys.checking.compare.sentences import HELD_OFF, sentence
from tachys.checking.compare.timers import mistakes_behind
from tachys.checking.compare.unmodelled import Stranger
from tachys.checking.result import Finding
from tachys.dividers.mistakes import Mistake
from tachys.figures import Figure
from tachys.model.acts import Wait
from tachys.model.events import Thing
from tachys.model.nodes import Source
from tachys.model.quantities import rounded
from tachys.model.system import System
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

# which figure is looked at first where two explain the same: what happens to a board comes before what it does about it
_ORDER = ["period", "gap", "burst", "within", "jitter", "takes", "guard", "cost", "each", "time", "every"]

LOOKED_AT = 2000  # reactions, the longest first


class Symptom(Struct, frozen=True):
    """Something measured that lies outside its bound; ``at`` to ``end`` ps is where it is seen worst."""

    code: str
    about: Thing
    modelled: int | None
    measured: int
    at: int | None = None
    end: int | None = None


def find_all(board: Measurement, figures: tuple[Compared, ...], strangers: tuple[Stranger, ...]) -> tuple[Finding, ...]:
    """Every difference between model and board, the one that explains most first."""
    refuted = refuted_figures(figures)
    hidden = any(each.what == "core" for each in strangers)  # what it can have done is not held against anything else
    symptoms = list(symptoms_of(board, board.paper))
    after = bounds_of(corrected(board.system, refuted)) if refuted else board.paper
    left = [each for each in symptoms if _still(each, board, after)]
    same: dict[tuple[str, str], list[Compared]] = {}
    for figure in refuted:  # a guard may be refuted for lines of several levels at once
        same.setdefault((figure.about, figure.key), []).append(figure)
    found = [_root(board, tuple(each), symptoms) for each in same.values()]
    found += [_stranger(stranger, left, board) for stranger in strangers]
    found += [] if hidden else list(_lost_wake_ups(board))
    found += _took_fewer(board, {figure.about for figure in figures if figure.why == MEANWHILE})
    left = [each for each in left if not any(each.about in finding.explains for finding in found)]
    found += pin_findings(board)
    if not any(figure.key in ("gap", "burst", "within") for figure in refuted):
        found += list(_unasked(board))
    explained = any(finding.code == "runs-unasked" for finding in found)
    found += [_plain(board, each) for each in left if not (explained and each.code != "reaction-beyond-bound")]
    _add_paces(board, after, found)
    return tuple(sorted(found, key=lambda finding: (-_weight(finding), _rank(finding))))


def _add_paces(board: Measurement, after: Bounds, found: list[Finding]) -> None:
    """Add what comes too often, too seldom or not any more, where nothing says why yet, there or at what causes it."""
    told = {finding.about for finding in found} | {about for finding in found for about in finding.explains}
    paced = list(paces(board, after))
    strange = {each.about for each in paced}
    for each in paced:
        if each.code == "comes-no-more":  # what it then has no answer for is not lost
            lost = [other for other in found if (other.code, other.about) == ("lost-unexpected", each.about)]
            if lost:
                found.remove(lost[0])
                told.discard(each.about)
        behind = {cause.thing for cause in board.system.graph.causes.get(each.about, ())}
        for flag in getattr(board.system.nodes[each.about], "polls", ()):
            behind.add(Thing(flag if flag.startswith("buffer.") else f"flag.{flag}"))
        if each.about in told or behind & (told | strange - {each.about}):
            continue
        found.append(each)
        told.add(each.about)
    if not found:  # a ring of things, each behind another
        found += paced[:1]


def _weight(finding: Finding) -> int:
    return len(finding.explains) + len(finding.falls) + 2 * (finding.code == "not-modelled")


def _rank(finding: Finding) -> int:
    key = finding.code.partition("-")[0]
    return _ORDER.index(key) if key in _ORDER else len(_ORDER)


# --- what lies outside its bound ----------------------------------------------------------------------------


def symptoms_of(board: Measurement, paper: Bounds) -> Iterator[Symptom]:
    """Everything measured that lies beyond or below its bound."""
    for name, runs in board.isrs.items():
        bound, about = paper.isrs[name], runs.isr.thing
        lost, count = runs.lost() or (EMPTY, 0)
        if count and not bound.lost:
            yield Symptom("lost-unexpected", about, 0, count, int(lost[0]) if len(lost) else None)
        late = False
        if runs.latency is not None:
            found = list(_outside(board, "latency", about, runs.latency.at, runs.latency.after, bound.latency,
                                  relative=runs.latency.relative))  # fmt: skip
            late = bool(found)
            yield from found
        if runs.response is not None and not late:  # a response that is only late as its beginning was says no more
            yield from _outside(board, "response", about, runs.response.at, runs.response.after, bound.response)
        spans = runs.spans(board.shown.bodies.get(about))
        if spans is not None:
            yield from _outside(board, "span", about, *spans, bound.span)
    for name, works in board.units.items():
        unit = paper.units[name]
        if works.paired is not None and works.paired.judged and len(works.paired.lost) and not unit.lost:
            yield Symptom("lost-unexpected", works.unit.thing, 0, len(works.paired.lost), int(works.paired.lost[0]))
        filled = board.buffers.get(works.unit.drains or "")
        if filled is not None and unit.lost_in_all is not None and len(filled.starved) > unit.lost_in_all:
            at = int(filled.starved[unit.lost_in_all])
            yield Symptom("lost-unexpected", works.unit.thing, unit.lost_in_all, len(filled.starved), at)
    for name, flag in board.flags.items():
        about = Thing(f"flag.{name}")
        if len(flag.overwritten) and not paper.flags[name].overwritten:
            yield Symptom("overwritten-unexpected", about, 0, len(flag.overwritten), int(flag.overwritten[0]))
        yield from _outside(board, "reaction", about, flag.reaction.at, flag.reaction.after,
                            paper.flags[name].reaction)  # fmt: skip
    for full in overfull(board):
        code = "items-lost" if full.lost else "level-more"
        yield Symptom(code, Thing(f"buffer.{full.buffer}"), full.modelled, full.seen, full.wanted, full.at)
    for name, each in board.steps.items():
        about, bodies = each.step.thing, board.shown.bodies.get(each.step.thing)
        if bodies is not None and each.duration is not None:
            yield from _outside(board, "duration", about, bodies.start[bodies.whole], each.duration,
                                paper.steps[name].duration)  # fmt: skip


def _outside(
    board: Measurement,
    what: str,
    about: Thing,
    at: Instants,
    values: Instants,
    figure: Figure,
    *,
    relative: bool = False,
) -> Iterator[Symptom]:
    if not len(values):
        return
    place = int(np.argmax(values))
    most = int(values[place])
    slack = board.slack(most)
    if figure.most is not None and most - slack >= figure.most:
        yield Symptom(f"{what}-beyond-bound", about, figure.most, most, int(at[place]), int(at[place]) + most)
    least = int(values.min())
    if not relative and least + slack <= figure.least:
        place = int(np.argmin(values))
        yield Symptom(f"{what}-below-bound", about, figure.least, least, int(at[place]), int(at[place]) + least)


def _still(symptom: Symptom, board: Measurement, after: Bounds) -> bool:
    """Whether a symptom is one for other bounds as well."""
    kind, name = symptom.about.kind, symptom.about.name
    if kind == "buffer":
        level = after.buffers[name].level
        return not after.buffers[name].lost if symptom.code == "items-lost" else symptom.measured > (level or 0)
    if symptom.code == "lost-unexpected":
        if kind == "isr":
            return not after.isrs[name].lost
        unit = after.units[name]
        return not unit.lost or (unit.lost_in_all is not None and symptom.measured > unit.lost_in_all)
    if symptom.code == "overwritten-unexpected":
        return not after.flags[name].overwritten
    what = symptom.code.split("-")[0]
    table = {"isr": after.isrs, "flag": after.flags, "step": after.steps}[kind]
    figure: Figure = getattr(table[name], what)  # type: ignore[index]
    slack = board.slack(symptom.measured)
    if symptom.code.endswith("beyond-bound"):
        return figure.most is not None and symptom.measured - slack >= figure.most
    return symptom.measured + slack <= figure.least


# --- findings -----------------------------------------------------------------------------------------------


def _root(board: Measurement, figures: tuple[Compared, ...], symptoms: list[Symptom]) -> Finding:
    """A refuted figure, with what it explains and which needs fall with it."""
    figure = max(figures, key=lambda each: each.measured.most if each.measured else 0)
    assert figure.measured is not None
    changed = corrected(board.system, figures)
    after = bounds_of(changed)
    explains = tuple(dict.fromkeys(each.about for each in symptoms if not _still(each, board, after)))
    falls = tuple(name for name, need in board.paper.needs.items() if need.proved and not after.needs[name].proved)
    beyond = figure.beyond
    code = _code(figure)
    modelled = (figure.high if beyond else figure.low) or 0
    sure = figure.sure_most if beyond else figure.sure_least  # not what it may have been, but what it surely was
    measured = max(0, sure or 0)
    text = sentence(code, figure.why)
    if code in OWN_LONGER and (names := unshown_on_top(board, figure.about)):
        text += f" (or that of {' or '.join(names[:3])} on top of it, which no line shows)"
    if figure.key == "period":
        text += _likely(board, figure)
        modelled = round(board.system.source(figure.about.name).period or 0)
        measured = round(rounded(figure.measured.most, figure.measured.resolution))
    if figure.key == "answers":
        modelled, measured = (round(Fraction(each * figure.measured.count, MILLION)) for each in (modelled, measured))
    return Finding(code, figure.about, text, modelled, measured, falls, explains, _where(board, figure))


def _code(figure: Compared) -> str:
    if figure.asleep:
        return "stands-still"
    if figure.of_current:
        return "current-more" if figure.beyond else "current-less"
    if figure.key in ("period", "every"):
        return f"{figure.key}-off"
    if figure.key == "gap":
        return "gap-closer"
    if figure.key == "burst":
        return "burst-denser"
    if figure.key == "jitter":
        return "jitter-more"
    if figure.key in ("counts", "answers", "looks"):
        return f"{figure.key}-off"
    if figure.key.startswith("moments."):
        return f"moment-{'later' if figure.beyond else 'sooner'}"
    return f"{figure.key}-{'longer' if figure.beyond else 'shorter'}"


def _where(board: Measurement, figure: Compared) -> int | None:
    """An instant at which a figure of a body, or a gap, is seen at its worst."""
    kind, name = figure.about.kind, figure.about.name
    if figure.at is not None:
        return figure.at
    if figure.key in ("cost", "nth", "each", "time"):
        bodies = board.shown.bodies[figure.about]
        own = board.isrs[name].cost if kind == "isr" else board.steps[name].own
        assert own is not None
        place = int(np.argmax(own.least)) if figure.beyond else int(np.argmin(own.most))
        return int(bodies.start[bodies.whole][place])
    if figure.key in ("gap", "burst"):
        events = board.events(figure.about)
        return None if events is None else int(events[int(np.argmin(np.diff(events)))])
    return None


def _likely(board: Measurement, figure: Compared) -> str:
    """The mistake that the ratio of the periods points at, in words."""
    source = board.system.source(figure.about.name)
    assert figure.measured is not None
    if source.period is None:
        return ""
    found = likely_mistakes(board.system, source, figure.measured)
    return f"; likely: {found[0].text}" if found else "; none of the usual timer mistakes gives this ratio"


def likely_mistakes(system: System, source: Source, measured: Measured) -> tuple[Mistake, ...]:
    """What the ratio reader makes of a measured period."""
    share = Fraction(measured.resolution, measured.most) + system.capture_tolerance
    return mistakes_behind(system, source, Fraction(measured.most), share)


def _stranger(stranger: Stranger, left: list[Symptom], board: Measurement) -> Finding:
    """Something that runs and is not in the model."""
    explains = [*stranger.explains]
    for symptom in left:
        main = main_cause(board, symptom)
        if main is not None and (main.what == stranger.what or main.how == "unseen"):
            explains.append(symptom.about)
    return Finding("not-modelled", stranger.what, stranger.text, None, stranger.most, (),
                   tuple(dict.fromkeys(explains)), stranger.at)  # fmt: skip


def main_cause(board: Measurement, symptom: Symptom) -> Cause | None:
    """What took most of a wait, more than the bound expects."""
    if symptom.at is None or symptom.end is None or symptom.end <= symptom.at:
        return None
    waiting = symptom.about
    if waiting.kind == "flag":
        taker = board.system.graph.pollers[waiting.name][0]
        waiting = taker.thing
    elif waiting.kind == "buffer":
        waiting = board.system.graph.drain[waiting.name].thing
    causes = causes_of(stretches_of(board, symptom.at, symptom.end, waiting))
    return causes[0] if causes else None


def _unasked(board: Measurement) -> Iterator[Finding]:
    """Runs for which no event came: something else raises the line, too."""
    for runs in board.isrs.values():
        matched = runs.matched
        if matched is None:
            continue
        count = len(matched.orphans)
        total = max(1, len(matched.run))
        if count >= 3 or count * 10 >= total > 3:
            starts = board.events(runs.isr.start)
            assert starts is not None
            text = sentence("runs-unasked", f"{count} of its {count + total} runs")
            assert board.paper.reach is not None
            apart = board.paper.reach.events.curve(runs.isr.start).least_span(2)
            text += storm(board, starts, int(matched.orphans[count // 2]), apart)
            yield Finding("runs-unasked", runs.isr.thing, text, 0, count, (), (), int(starts[matched.orphans[0]]))


def _took_fewer(board: Measurement, meanwhile: set[Thing]) -> Iterator[Finding]:
    """Runs that were done too soon for what had come into their buffer; of drains that take what comes ``meanwhile``
    the run before had taken it.
    """
    few_of = {few.buffer: few for few in took_fewer(board)}
    for buffer in board.system.buffers:
        drain, few = board.system.graph.drain[buffer.name].thing, few_of.get(buffer.name)
        explains: tuple[Thing, ...] = ()
        if drain in meanwhile:
            code, about, why, explains = "takes-meanwhile", drain, f"out of {buffer.thing}", (drain, buffer.thing)
        elif few is not None:
            why = f"{drain} took {few.at_most} at most of the {few.came} that had come"
            code, about = "holds-less", buffer.thing
        else:
            continue
        proved = (name for name, need in board.paper.needs.items() if need.proved)
        falls = tuple(name for name in proved if rests_on(board, board.paper.needs[name].need, buffer.name))
        at = None if few is None else few.at
        yield Finding(code, about, sentence(code, why), None, None, falls, explains, at)


def _plain(board: Measurement, symptom: Symptom) -> Finding:
    """What no refuted figure explains, with the mechanism that fits, if one does."""
    main = main_cause(board, symptom)
    if symptom.code == "reaction-beyond-bound" and main is not None and main.how == "unseen":
        sleeper = next((step for step in board.system.steps if step.halt), None)
        if sleeper is not None and _woken(board, symptom):
            text = sentence("lost-wake-up", sleeper.thing)
            return Finding("lost-wake-up", symptom.about, text, symptom.modelled, symptom.measured, (), (), symptom.at)
    why = "" if main is None or symptom.code.endswith("below-bound") else _cause_words(main)
    return Finding(symptom.code, symptom.about, sentence(symptom.code, why), symptom.modelled, symptom.measured, (), (),
                   symptom.at)  # fmt: skip


def _woken(board: Measurement, symptom: Symptom) -> bool:
    """Whether the reaction came as soon as the next routine had run: it was asleep, and that woke it."""
    assert symptom.end is not None
    ends = [bodies.ended for thing, bodies in board.shown.bodies.items() if thing.kind == "isr"]
    ended = np.sort(np.concatenate([np.zeros(0, np.int64), *ends]))
    place = int(np.searchsorted(ended, symptom.end, side="right")) - 1
    if place < 0:
        return False
    slept = int(ended[place]) - (symptom.at or 0)
    return symptom.end - int(ended[place]) < max(slept, 1) and int(ended[place]) > (symptom.at or 0)


def _cause_words(cause: Cause) -> str:
    if cause.how == "held off":
        return f"{HELD_OFF} {cause.what} ran"
    if cause.how == "ran":
        return f"{cause.what} ran meanwhile"
    if cause.how == "not set":
        return f"{cause.what} was not set"
    if cause.how == "unseen":
        return "nothing that has a line ran meanwhile"
    return ""


def _lost_wake_ups(board: Measurement) -> Iterator[Finding]:
    """Flags that were set, with nothing running, for longer than a round without work: the core slept on them.

    Only where the model says that the loop does not halt while the flag is set, and looks at no other beside it.
    """
    system = board.system
    for name, flag in board.flags.items():
        sleeper = next((step for step in system.steps if step.halt and name in step.halt.unless), None)
        if sleeper is None or sleeper.halt is None or system.loop is None or system.graph.pollers[name][0].polls_all:
            continue
        round_ = hidden_pass(board.paper, board.shown, board.resolution) + sleeper.halt.waking.most
        asleep = {NOBODY}  # with its line up, the step that halts is on top all the while
        if sleeper.thing in board.things and not any(isinstance(act, Wait) for act in sleeper.acts):
            asleep.add(board.things.index(sleeper.thing))
        hidden = unseen_routines(board.paper, board.shown)
        delays, slept = flag.reaction, list[tuple[int, int]]()
        longest = np.argsort(-delays.after)[:LOOKED_AT]
        for place in longest[delays.after[longest] > round_].tolist():
            begin, end = int(delays.at[place]), int(delays.at[place] + delays.after[place])
            idle = [(b - a, a) for a, b, who in board.tops.between(begin, end) if who in asleep]
            lengths = np.array([length for length, _ in idle], np.int64)
            free = lengths - unseen_work(board.paper, hidden, lengths)
            slept += [each for each, left in zip(idle, free.tolist(), strict=True) if left > round_]
        if slept:
            most, at = max(slept)
            often = "once" if len(slept) == 1 else f"{len(slept)} times"
            text = sentence("lost-wake-up", f"{often}, step.{sleeper.name} halts with flag.{name} set")
            yield Finding("lost-wake-up", sleeper.thing, text, None, most, (), (Thing(f"flag.{name}"),), at)
