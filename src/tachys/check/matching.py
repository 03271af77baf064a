"""Which run serves which event: oldest first, as many waiting as the hardware remembers, the others lost.

The mark of a line clears when the routine is accepted, which the capture does not show: it lies at least one entry
before the first instruction. An event that comes after that instant surely waits for the next run; one that comes
while the memory is full and earlier than that is lost, unless a run follows that nothing else can explain.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

import numpy as np

from tachys.capture.table import Instants


@dataclass(slots=True)
class Matched:
    """Events and the runs that serve them. ``event[k]`` ps is served by run number ``run[k]``.

    ``lost`` and ``waiting`` hold events never served: lost for good, or still waiting as the capture ends.
    ``orphans`` counts runs for which no event was left.
    """

    event: list[int] = field(default_factory=list)
    run: list[int] = field(default_factory=list)
    lost: list[int] = field(default_factory=list)
    waiting: list[int] = field(default_factory=list)
    orphans: int = 0


def match(events: Instants, runs: Instants, *, pending: int, lead: int, takes_all: bool = False) -> Matched:
    """Match events to runs, both ascending in ps; ``lead`` is the least time from acceptance to first instruction.

    How many events waited already as the capture began is unknown: the number that leaves least unexplained is taken.
    """
    tried = [_match(events, runs, pending, lead, takes_all, carried) for carried in range(pending + 1)]
    return min(tried, key=lambda matched: matched.orphans + len(matched.lost))


def _match(events: Instants, runs: Instants, pending: int, lead: int, takes_all: bool, carried: int) -> Matched:
    found = Matched()
    waiting: deque[int | None] = deque([None] * carried)  # None: came before the capture began
    doubtful: list[int] = []  # came while the memory seemed full
    merged = np.concatenate([events, runs])
    first_event = int(events[0]) if len(events) else int(merged[-1]) + 1 if len(merged) else 0
    for place in np.argsort(merged, kind="stable").tolist():  # at one instant the event comes first
        now = int(merged[place])
        if place < len(events):
            if len(waiting) == pending:
                doubtful.append(now)
                continue
            found.lost += doubtful
            doubtful.clear()
            waiting.append(now)
            continue
        if not waiting and doubtful:
            waiting.append(doubtful.pop())
        if not waiting:
            found.orphans += now >= first_event
            continue
        for served in [waiting.popleft() for _ in range(len(waiting) if takes_all else 1)]:
            if served is not None:
                found.event.append(served)
                found.run.append(place - len(events))
        doubtful = _settle(doubtful, now - lead, waiting, pending, found.lost)
    found.lost = sorted(found.lost + doubtful)
    found.waiting = [event for event in waiting if event is not None]
    return found


def _settle(doubtful: list[int], accepted: int, waiting: deque[int | None], pending: int, lost: list[int]) -> list[int]:
    """What a run that was accepted at ``accepted`` or before says of the doubtful events; the ones still in doubt."""
    for event in doubtful:
        if event > accepted:
            if len(waiting) < pending:
                waiting.append(event)
            else:
                lost.append(event)
    unsure = [event for event in doubtful if event <= accepted]
    if len(waiting) == pending:
        lost += unsure
        return []
    lost += unsure[:-1]
    return unsure[-1:]
