"""Which line of a capture shows what of a model: the assignment for which all evidence together speaks most.

Each line may show one thing or none. The search begins with what each line says by itself, and changes one line or
exchanges two as long as that is better; evidence of two lines counts where both are given a meaning.
"""

from __future__ import annotations

from collections.abc import Iterator, Set
from itertools import combinations

from msgspec import Struct

from tachys.capture.table import Capture
from tachys.checking.probes.evidence import Evidence, Expected, Kind, Line, Meaning, of_one, of_two
from tachys.model.events import Thing

FAR, SURE, LIKELY = 18.0, 9.0, 3.0  # nats to the next best
_TRIED = 16  # meanings of a line that are tried, the best by themselves
_NEAR = 3  # of these, with how many it is looked at what would follow for the other lines
_BETTER = 1e-6
_NOTHING = -1  # the number of no meaning, for which nothing speaks and nothing against

Chosen = dict[str, Meaning | None]
_Numbers = list[int]  # of the meaning of each line
_Change = dict[int, int]  # the number of a new meaning, by that of the line


class Proposal(Struct, frozen=True):
    """What a line shows, most likely; None: nothing of the model. ``margin`` in nats to ``other``, the runner-up."""

    line: str
    meaning: Meaning | None
    margin: float
    other: Meaning | None
    why: tuple[str, ...] = ()
    against: tuple[str, ...] = ()

    @property
    def is_sure(self) -> bool:
        """Whether nothing else comes near, and nothing speaks against it."""
        return self.meaning is not None and self.margin >= SURE and not self.against

    @property
    def how_sure(self) -> str:
        """In a word."""
        if self.is_sure:
            return "sure"
        return "likely" if self.margin >= LIKELY else "open"


class Search:
    """The lines that move, what the model allows, and all evidence that was asked for so far.

    Within, lines, meanings and their things go by numbers, since each question is asked some thousand times.
    """

    def __init__(self, expected: Expected, lines: dict[str, Line]) -> None:
        self.expected, self.lines = expected, lines
        self._names = list(lines)
        self._meanings: list[Meaning] = []
        self._numbers: dict[Meaning, int] = {}
        self._things: list[Thing] = []  # of the meanings, each thing one object
        self._same: dict[Thing, Thing] = {}
        self._one: dict[tuple[int, int], Evidence] = {}
        self._two: dict[tuple[int, int], dict[tuple[int, int], float]] = {}
        self._some: dict[int, list[int]] = {}
        self._all = [self._number(each) for each in expected.meanings]

    def best(self) -> Chosen:
        """The best assignment found."""
        chosen = [_NOTHING] * len(self._names)
        order = sorted(range(len(chosen)), key=lambda each: -self._alone(each, self._tried(each)[0]).score)
        for line in order:
            self._change(line, chosen)
        for _ in range(30):
            moved = [self._change(line, chosen) for line in order]
            if not any(moved):
                break
        while self._exchange(chosen) or self._turn(chosen):
            pass
        return {name: self._meaning(each) for name, each in zip(self._names, chosen, strict=True)}

    def one(self, line: str, meaning: Meaning) -> Evidence:
        """What a line says by itself."""
        return self._alone(self._names.index(line), self._number(meaning))

    def of_line(self, line: str, meaning: Meaning, chosen: Chosen) -> float:
        """What speaks for a meaning of a line, with all others as they are."""
        return self._speaks(self._names.index(line), self._number(meaning), self._as_numbers(chosen))

    def worth_of(self, line: str, meaning: Meaning, chosen: Chosen) -> float:
        """How much better all is with another meaning of a line, the others as is best for them then."""
        return self._with(self._names.index(line), self._number(meaning), self._as_numbers(chosen))[1]

    def total(self, chosen: Chosen) -> float:
        """What speaks for a whole assignment."""
        after, found = [_NOTHING] * len(self._names), 0.0
        for line, meaning in enumerate(self._as_numbers(chosen)):
            found += self._speaks(line, meaning, after)
            after[line] = meaning
        return found

    def proposals(self, chosen: Chosen) -> list[Proposal]:
        """What is proposed for each line, and by how much that is better than what comes next.

        In another assignment that is nearly as good no line is sure that shows another thing there.
        """
        next_best: dict[int, tuple[float, int]] = {}
        best = self._as_numbers(chosen)
        for line, meaning in enumerate(best):
            for other in self._near(line, meaning, best):
                after, gain = self._with(line, other, best)
                for each, number in enumerate(after):
                    if number != best[each] and (each not in next_best or -gain < next_best[each][0]):
                        next_best[each] = -gain, number
        found = []
        for line, name in enumerate(self._names):
            margin, runner_up = next_best.get(line, (SURE, _NOTHING))
            why = self.reasons(name, chosen[name], chosen)
            found.append(Proposal(name, chosen[name], margin, self._meaning(runner_up), *why))
        return found

    def reasons(self, line: str, meaning: Meaning | None, chosen: Chosen) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """(what speaks for a meaning, what against), of the line and of it with the others."""
        if meaning is None:
            return (), ()
        alone = self.one(line, meaning)
        why, against = list(alone.why), list(alone.against)
        for other, both in self._with_others(line, meaning, chosen):
            why += [f"{each} ({other})" for each in both.why]
            against += [f"{each} ({other})" for each in both.against]
        return tuple(why), tuple(against)

    def kinds_against(self, line: str, meaning: Meaning, chosen: Chosen) -> set[Kind]:
        """Of which kinds that is what speaks against a meaning."""
        others = (both.kinds for _, both in self._with_others(line, meaning, chosen))
        return self.one(line, meaning).kinds.union(*others)

    def _with_others(self, line: str, meaning: Meaning, chosen: Chosen) -> Iterator[tuple[str, Evidence]]:
        """What a line says together with each other one."""
        for other, second in chosen.items():
            if other != line and second is not None and second.thing != meaning.thing:
                yield other, of_two(self.lines[line], meaning, self.lines[other], second, self.expected)

    # --- by numbers -------------------------------------------------------------------------------------------------

    def _number(self, meaning: Meaning | None) -> int:
        if meaning is None:
            return _NOTHING
        if meaning not in self._numbers:
            self._numbers[meaning] = len(self._meanings)
            self._meanings.append(meaning)
            self._things.append(self._same.setdefault(meaning.thing, meaning.thing))
        return self._numbers[meaning]

    def _meaning(self, number: int) -> Meaning | None:
        return None if number == _NOTHING else self._meanings[number]

    def _as_numbers(self, chosen: Chosen) -> _Numbers:
        return [self._number(chosen.get(name)) for name in self._names]

    def _alone(self, line: int, meaning: int) -> Evidence:
        if (line, meaning) not in self._one:
            self._one[line, meaning] = of_one(self.lines[self._names[line]], self._meanings[meaning], self.expected)
        return self._one[line, meaning]

    def _tried(self, line: int) -> list[int]:
        """The meanings that are tried for a line, the best by themselves first."""
        if line not in self._some:
            self._some[line] = sorted(self._all, key=lambda each: -self._alone(line, each).score)[:_TRIED]
        return self._some[line]

    def _speaks(self, line: int, meaning: int, chosen: _Numbers) -> float:
        """What speaks for a meaning of a line, with all others as they are."""
        if meaning == _NOTHING:
            return 0.0
        thing, things, together = self._things[meaning], self._things, 0.0
        known = self._two.setdefault((line, meaning), {})
        for held in enumerate(chosen):
            other, second = held
            if second != _NOTHING and other != line and things[second] is not thing:
                score = known.get(held)
                together += self._together((line, meaning), held) if score is None else score
        return self._alone(line, meaning).score + together

    def _together(self, one: tuple[int, int], other: tuple[int, int]) -> float:
        """What two lines say together."""
        given = sorted((self._names[line], self._meanings[meaning]) for line, meaning in (one, other))
        (line, first), (second_line, second) = given
        score = of_two(self.lines[line], first, self.lines[second_line], second, self.expected).score
        self._two.setdefault(one, {})[other] = self._two.setdefault(other, {})[one] = score
        return score

    def _turn(self, chosen: _Numbers) -> bool:
        """Give a line another meaning, and what hangs on it what is best then; whether that was better."""
        for line, now in enumerate(chosen):
            for meaning in self._tried(line)[:_NEAR]:
                if meaning != now:
                    after, gain = self._with(line, meaning, chosen)
                    if gain > _BETTER:
                        chosen[:] = after
                        return True
        return False

    def _exchange(self, chosen: _Numbers) -> bool:
        """Exchange two lines with all that hangs on them, which no single change would do; whether that was better."""
        for one, other in combinations([line for line, each in enumerate(chosen) if each != _NOTHING], 2):
            first, second = chosen[one], chosen[other]
            if self._things[first].kind != self._things[second].kind:
                continue
            if second not in self._tried(one) or first not in self._tried(other):
                continue
            after, gain = self._settled({one: second, other: first}, chosen)
            if gain > _BETTER:
                chosen[:] = after
                return True
        return False

    def _with(self, line: int, meaning: int, chosen: _Numbers) -> tuple[_Numbers, float]:
        found = [self._settled(self._changed(line, meaning, chosen), chosen)]
        holder = self._holder(line, meaning, chosen)
        if holder is not None:
            found.append(self._settled({line: meaning, holder: chosen[line]}, chosen))
        return max(found, key=lambda each: each[1])

    def _settled(self, change: _Change, chosen: _Numbers) -> tuple[_Numbers, float]:
        """(the assignment after a change, once what hangs on it has taken its best; how much better that is)."""
        after, gain = _changed_to(chosen, change), self._worth(change, chosen)
        moved = [each for line in change for each in (change[line], chosen[line]) if each != _NOTHING]
        linked = {other for each in moved for other in self.expected.linked(self._things[each])}
        held = ((line, each) for line, each in enumerate(chosen) if line not in change and each != _NOTHING)
        lines = [line for line, each in held if self._things[each] in linked]
        for line in [*lines, *lines]:
            gain += self._change(line, after, kept=change.keys())
        return after, gain

    def _change(self, line: int, chosen: _Numbers, kept: Set[int] = frozenset()) -> float:
        """Give a line its best meaning; whoever has it gets that of the line, or its own next best; some are kept.

        Returns how much better that is; 0 where nothing is.
        """
        gain, best = _BETTER, None
        for meaning in [*self._tried(line), _NOTHING]:
            if meaning != chosen[line]:
                change = self._changed(line, meaning, chosen)
                if not kept.isdisjoint(change):
                    continue
                more = self._worth(change, chosen)
                if more > gain:
                    gain, best = more, change
        if best is None:
            return 0.0
        chosen[:] = _changed_to(chosen, best)
        return gain

    def _changed(self, line: int, meaning: int, chosen: _Numbers) -> _Change:
        """What changes if a line gets a meaning: whose thing it was gets what is best for it then."""
        change, holder = {line: meaning}, self._holder(line, meaning, chosen)
        if holder is None:
            return change
        after = _changed_to(chosen, {**change, holder: _NOTHING})
        taken = {self._things[each] for each in after if each != _NOTHING}
        free = [each for each in self._tried(holder) if self._things[each] not in taken]
        old = chosen[line]
        if old != _NOTHING and old not in free and self._things[old] is not self._things[meaning]:
            free.append(old)
        change[holder] = max([*free, _NOTHING], key=lambda each: self._speaks(holder, each, after))
        return change

    def _worth(self, change: _Change, chosen: _Numbers) -> float:
        """How much better all is with a change."""
        after, gain = list(chosen), 0.0
        for line, meaning in change.items():
            gain -= self._speaks(line, after[line], after)
            after[line] = meaning
            gain += self._speaks(line, meaning, after)
        return gain

    def _near(self, line: int, meaning: int, chosen: _Numbers) -> list[int]:
        """The meanings for which it is looked at what would follow for the other lines."""
        others = [each for each in [*self._tried(line), _NOTHING] if each != meaning]
        worth = {each: self._worth(self._changed(line, each, chosen), chosen) for each in others}
        near = sorted(others, key=lambda each: -worth[each])[:_NEAR]
        return near + [each for each in self._tried(line)[: _NEAR + 1] if each != meaning and each not in near]

    def _holder(self, line: int, meaning: int, chosen: _Numbers) -> int | None:
        """The other line that shows the same thing."""
        if meaning == _NOTHING:
            return None
        thing, things = self._things[meaning], self._things
        for other, each in enumerate(chosen):
            if each != _NOTHING and things[each] is thing and other != line:
                return other
        return None


def _changed_to(chosen: _Numbers, change: _Change) -> _Numbers:
    after = list(chosen)
    for line, meaning in change.items():
        after[line] = meaning
    return after


def lines_of(capture: Capture) -> dict[str, Line]:
    """The lines of a capture that move, by name."""
    found = (each for each in capture.signals.values() if not each.real and each.width == 1 and len(each.at) > 3)
    return {signal.name: Line(signal, capture) for signal in found}
