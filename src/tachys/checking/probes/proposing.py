"""Which line of a capture shows what of a model: the assignment for which all evidence together speaks most.

Each line may show one thing or none. The search begins with what each line says by itself, and changes one line or
exchanges two as long as that is better; evidence of two lines counts where both are given a meaning.
"""

from __future__ import annotations

from itertools import combinations

from msgspec import Struct, field

from tachys.capture.table import Capture
from tachys.checking.probes.evidence import Evidence, Expected, Kind, Line, Meaning, of_one, of_two

FAR, SURE, LIKELY = 18.0, 9.0, 3.0  # nats to the next best
_TRIED = 16  # meanings of a line that are tried, the best by themselves
_NEAR = 3  # of these, with how many it is looked at what would follow for the other lines
_BETTER = 1e-6
_NOTHING = 0.0  # what speaks for a line that belongs to nothing

Chosen = dict[str, Meaning | None]


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


class Search(Struct):
    """The lines that move, what the model allows, and all evidence that was asked for so far."""

    expected: Expected
    lines: dict[str, Line]
    _one: dict[tuple[str, Meaning], Evidence] = field(default_factory=dict)
    _two: dict[tuple[str, Meaning, str, Meaning], float] = field(default_factory=dict)
    _some: dict[str, list[Meaning]] = field(default_factory=dict)

    def one(self, line: str, meaning: Meaning) -> Evidence:
        """What a line says by itself."""
        if (line, meaning) not in self._one:
            self._one[line, meaning] = of_one(self.lines[line], meaning, self.expected)
        return self._one[line, meaning]

    def two(self, line: str, meaning: Meaning, other: str, second: Meaning) -> float:
        """What two lines say together."""
        if line > other:
            line, meaning, other, second = other, second, line, meaning
        key = line, meaning, other, second
        if key not in self._two:
            self._two[key] = of_two(self.lines[line], meaning, self.lines[other], second, self.expected).score
        return self._two[key]

    def some(self, line: str) -> list[Meaning]:
        """The meanings that are tried for a line, the best by themselves first."""
        if line not in self._some:
            order = sorted(self.expected.meanings, key=lambda each: -self.one(line, each).score)
            self._some[line] = order[:_TRIED]
        return self._some[line]

    def of_line(self, line: str, meaning: Meaning | None, chosen: Chosen) -> float:
        """What speaks for a meaning of a line, with all others as they are."""
        if meaning is None:
            return _NOTHING
        with_others = (
            self.two(line, meaning, other, second)
            for other, second in chosen.items()
            if other != line and second is not None and second.thing != meaning.thing
        )
        return self.one(line, meaning).score + sum(with_others)

    def best(self) -> Chosen:
        """The best assignment found."""
        chosen: Chosen = dict.fromkeys(self.lines)
        order = sorted(self.lines, key=lambda each: -self.one(each, self.some(each)[0]).score)
        for line in order:
            self._change(line, chosen)
        for _ in range(30):
            moved = [self._change(line, chosen) for line in order]
            if not any(moved):
                break
        while self._exchange(chosen) or self._turn(chosen):
            pass
        return chosen

    def _turn(self, chosen: Chosen) -> bool:
        """Give a line another meaning, and what hangs on it what is best then; whether that was better."""
        for line in chosen:
            for meaning in self.some(line)[:_NEAR]:
                if meaning != chosen[line]:
                    after, gain = self._with(line, meaning, chosen)
                    if gain > _BETTER:
                        chosen.update(after)
                        return True
        return False

    def _exchange(self, chosen: Chosen) -> bool:
        """Exchange two lines with all that hangs on them, which no single change would do; whether that was better."""
        for one, other in combinations([each for each in chosen if chosen[each] is not None], 2):
            first, second = chosen[one], chosen[other]
            if first is None or second is None or first.thing.kind != second.thing.kind:
                continue
            if second not in self.some(one) or first not in self.some(other):
                continue
            after, gain = self._settled({one: second, other: first}, chosen)
            if gain > _BETTER:
                chosen.update(after)
                return True
        return False

    def _settled(self, change: Chosen, chosen: Chosen) -> tuple[Chosen, float]:
        """(the assignment after a change, once what hangs on it has taken its best; how much better that is)."""
        after, gain = {**chosen, **change}, self._worth(change, chosen)
        moved = [each.thing for line in change for each in (change[line], chosen[line]) if each is not None]
        linked = {other for thing in moved for other in self.expected.linked(thing)}
        lines = [line for line, each in chosen.items() if line not in change and each and each.thing in linked]
        for line in [*lines, *lines]:
            gain += self._change(line, after, kept=tuple(change))
        return after, gain

    def _change(self, line: str, chosen: Chosen, kept: tuple[str, ...] = ()) -> float:
        """Give a line its best meaning; whoever has it gets that of the line, or its own next best; some are kept.

        Returns how much better that is; 0 where nothing is.
        """
        gain, best = _BETTER, None
        for meaning in [*self.some(line), None]:
            if meaning != chosen[line]:
                change = self._changed(line, meaning, chosen)
                if kept and not change.keys().isdisjoint(kept):
                    continue
                more = self._worth(change, chosen)
                if more > gain:
                    gain, best = more, change
        if best is None:
            return 0.0
        chosen.update(best)
        return gain

    def _changed(self, line: str, meaning: Meaning | None, chosen: Chosen) -> Chosen:
        """What changes if a line gets a meaning: whose thing it was gets what is best for it then."""
        change: Chosen = {line: meaning}
        holder = _holder(meaning, chosen, line)
        if holder is None:
            return change
        after = {**chosen, **change, holder: None}
        free = [each for each in self.some(holder) if _holder(each, after, holder) is None]
        old = chosen[line]
        if old is not None and old not in free and (meaning is None or old.thing != meaning.thing):
            free.append(old)
        options: list[Meaning | None] = [*free, None]
        change[holder] = max(options, key=lambda each: self.of_line(holder, each, after))
        return change

    def worth_of(self, line: str, meaning: Meaning | None, chosen: Chosen) -> float:
        """How much better all is with another meaning of a line, the others as is best for them then."""
        return self._with(line, meaning, chosen)[1]

    def _with(self, line: str, meaning: Meaning | None, chosen: Chosen) -> tuple[Chosen, float]:
        found = [self._settled(self._changed(line, meaning, chosen), chosen)]
        holder = _holder(meaning, chosen, line)
        if holder is not None:
            found.append(self._settled({line: meaning, holder: chosen[line]}, chosen))
        return max(found, key=lambda each: each[1])

    def _worth(self, change: Chosen, chosen: Chosen) -> float:
        """How much better all is with a change."""
        after, gain = dict(chosen), 0.0
        for line, meaning in change.items():
            gain -= self.of_line(line, after[line], after)
            after[line] = meaning
            gain += self.of_line(line, meaning, after)
        return gain

    def proposals(self, chosen: Chosen) -> list[Proposal]:
        """What is proposed for each line, and by how much that is better than what comes next.

        In another assignment that is nearly as good no line is sure that shows another thing there.
        """
        next_best: dict[str, tuple[float, Meaning | None]] = {}
        for line, meaning in chosen.items():
            for other in self._near(line, meaning, chosen):
                after, gain = self._with(line, other, chosen)
                for each in chosen:
                    if after[each] != chosen[each] and (each not in next_best or -gain < next_best[each][0]):
                        next_best[each] = -gain, after[each]
        found = []
        for line, meaning in chosen.items():
            margin, runner_up = next_best.get(line, (SURE, None))
            found.append(Proposal(line, meaning, margin, runner_up, *self.reasons(line, meaning, chosen)))
        return found

    def _near(self, line: str, meaning: Meaning | None, chosen: Chosen) -> list[Meaning | None]:
        """The meanings for which it is looked at what would follow for the other lines."""
        others: list[Meaning | None] = [each for each in [*self.some(line), None] if each != meaning]
        worth = {each: self._worth(self._changed(line, each, chosen), chosen) for each in others}
        near = sorted(others, key=lambda each: -worth[each])[:_NEAR]
        return near + [each for each in self.some(line)[: _NEAR + 1] if each != meaning and each not in near]

    def reasons(self, line: str, meaning: Meaning | None, chosen: Chosen) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """(what speaks for a meaning, what against), of the line and of it with the others."""
        if meaning is None:
            return (), ()
        alone = self.one(line, meaning)
        why, against = list(alone.why), list(alone.against)
        for other, second in chosen.items():
            if other != line and second is not None and second.thing != meaning.thing:
                both = of_two(self.lines[line], meaning, self.lines[other], second, self.expected)
                why += [f"{each} ({other})" for each in both.why]
                against += [f"{each} ({other})" for each in both.against]
        return tuple(why), tuple(against)

    def kinds_against(self, line: str, meaning: Meaning, chosen: Chosen) -> set[Kind]:
        """Of which kinds that is what speaks against a meaning."""
        found = set(self.one(line, meaning).kinds)
        for other, second in chosen.items():
            if other != line and second is not None and second.thing != meaning.thing:
                found |= of_two(self.lines[line], meaning, self.lines[other], second, self.expected).kinds
        return found

    def total(self, chosen: Chosen) -> float:
        """What speaks for a whole assignment."""
        after: Chosen = dict.fromkeys(chosen)
        found = 0.0
        for line, meaning in chosen.items():
            found += self.of_line(line, meaning, after)
            after[line] = meaning
        return found


def _holder(meaning: Meaning | None, chosen: Chosen, but: str) -> str | None:
    """The line that shows the same thing, other than one."""
    if meaning is None:
        return None
    taken = (line for line, each in chosen.items() if line != but and each is not None and each.thing == meaning.thing)
    return next(taken, None)


def lines_of(capture: Capture) -> dict[str, Line]:
    """The lines of a capture that move, by name."""
    found = (each for each in capture.signals.values() if not each.real and each.width == 1 and len(each.at) > 3)
    return {signal.name: Line(signal, capture) for signal in found}
