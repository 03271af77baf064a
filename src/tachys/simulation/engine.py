"""The engine as a whole: one run of a system, compiled or not, in slices that can be interrupted between them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from tachys.errors import InputError, input_error
from tachys.model.acts import Halt
from tachys.model.system import System
from tachys.needs.kinds import Need
from tachys.simulation import layout as at
from tachys.simulation.index import Index, index_of
from tachys.simulation.kept import EVERYTHING, kept_for
from tachys.simulation.kernel import begin, play
from tachys.simulation.memory import make_memory
from tachys.simulation.options import RunOptions

TURNS = 2_000_000  # instants of one slice
ROOM = 1 << 20  # records of one slice


def events_in(system: System, length: int) -> int:
    """About how many events come from outside in ``length`` ps."""
    every = (source.period or source.mean or length for source in system.sources)
    return sum(int(length / max(1, each)) + 1 for each in every)


def work_of(system: System, length: int) -> int:
    """About how many millionths of a second it takes to play ``length`` ps uncompiled."""
    always = [step for step in system.steps if not step.gated]
    passes, sleeps = 0, any(isinstance(act, Halt) for step in always for act in step.acts)
    if always and system.loop is not None and not sleeps:  # one that only looks, or sleeps, is passed over
        taken = sum(act.takes.least for step in always for act in step.acts)
        passes = length // max(1, taken + system.loop.overhead.least)
    rings = sum(
        length // max(1, unit.takes.least) for unit in system.units if unit.primed and not unit.counts
    )  # go round by themselves
    return 300 * (events_in(system, length) + passes + rings)


class Records(Struct, frozen=True):
    """Part of what happened, in order: times in ps, kinds and indices (see ``layout``), times of causes."""

    time: at.Ints
    kind: NDArray[np.uint8]
    index: NDArray[np.int32]
    cause: at.Ints

    def since(self, place: int) -> Records:
        """Those from a place on."""
        return Records(self.time[place:], self.kind[place:], self.index[place:], self.cause[place:])


NOTHING = Records(np.zeros(0, np.int64), np.zeros(0, np.uint8), np.zeros(0, np.int32), np.zeros(0, np.int64))


class Run:
    """One run of a system from time zero to ``end`` ps.

    What it is to ``record`` is everything, or that from which these ``needs`` are read.
    """

    def __init__(
        self,
        system: System,
        ways: RunOptions,
        end: int,
        *,
        record: bool,
        needs: Sequence[Need] | None = None,
        compiled: bool | None = None,
    ) -> None:
        self.system = system
        self.end = end
        self.ended = False
        self.index = index_of(system)
        kept = {} if not record else EVERYTHING if needs is None else kept_for(system, self.index, needs)
        self.memory = make_memory(system, self.index, ways, end, record=kept)
        spare = int(self.memory[at.AT_ONCE]) * at.RECORD_SIZE
        self._log = np.zeros((ROOM * at.RECORD_SIZE if kept else 0) + 2 * spare, np.int64)
        self.memory[at.LOG_END], self.memory[at.LOG_FULL] = len(self._log), len(self._log) - spare
        self._plain = play.is_short(work_of(system, end)) if compiled is None else not compiled
        primed = np.array([unit.primed for unit in system.units], np.int64)
        begin.run(self.memory, self._log, primed, plain=self._plain)

    @property
    def now(self) -> int:
        """How far it has come, in ps."""
        return self.end if self.ended else min(int(self.memory[at.NOW]), self.end)

    def slices(self) -> Iterator[Records]:
        """Play on, slice by slice; what was recorded in each (nothing where no records are kept).

        A slice ends between two instants, however much happens at one.

        Raises:
            InputError: a chain of events takes no time at all, so that time stands still.
        """
        parts: list[Records] = []
        while not self.ended:
            self.ended = bool(play.run(self.memory, self._log, TURNS, plain=self._plain))
            if self.memory[at.FAULT]:
                raise _at_fault(self.system, int(self.memory[at.FAULT]), int(self.memory[at.NOW]))
            rows = self._log[: self.memory[at.LOGGED]].reshape(-1, at.RECORD_SIZE)
            what = rows[:, 1].copy()
            kind, index = (what >> at.KIND).astype(np.uint8), (what & (1 << at.KIND) - 1).astype(np.int32)
            parts.append(Records(rows[:, 0].copy(), kind, index, rows[:, 2].copy()))
            self.memory[at.LOGGED] = 0  # after, not before: what happens at time zero is logged before the first slice
            if not self.memory[at.WITHIN]:
                yield join(parts)
                parts = []

    def play(self) -> Records:
        """Play to the end; everything that was recorded."""
        return join(list(self.slices()))


def join(parts: list[Records]) -> Records:
    """Records one after the other."""
    if len(parts) == 1:
        return parts[0]
    return Records(
        np.concatenate([part.time for part in parts]), np.concatenate([part.kind for part in parts]),
        np.concatenate([part.index for part in parts]), np.concatenate([part.cause for part in parts]),
    )  # fmt: skip


def _at_fault(system: System, fault: int, at_ps: int) -> InputError:
    if fault == at.NO_ROOM:
        return input_error(
            system.title or "model",
            f"at {at_ps / 1e6:.3f} us more happens at one instant than the simulation has room for",
            "let fewer units start each other, or give them offsets",
        )
    return input_error(
        system.title or "model",
        f"time stands still at {at_ps / 1e6:.3f} us: events raise each other and take no time",
        "give a routine or core.entry a cost, so that the chain takes some time",
    )


def play_whole(
    system: System, ways: RunOptions, end: int, *, compiled: bool | None = None
) -> tuple[Run, Records, Index]:
    """A recorded run and its records."""
    run = Run(system, ways, end, record=True, compiled=compiled)
    return run, run.play(), run.index
