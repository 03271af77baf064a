"""The timer mistake that a measured period points at."""

from __future__ import annotations

from fractions import Fraction

from tachys.dividers.mistakes import Mistake, TimerContext, read_ratio
from tachys.model.nodes import Source
from tachys.model.quantities import PS_PER_SECOND
from tachys.model.system import System


def mistakes_behind(system: System, source: Source, period: Fraction, known_to: Fraction) -> tuple[Mistake, ...]:
    """What the ratio reader makes of a period in ps that is known to a share; its clock may be off by its tolerance."""
    assert source.period is not None
    assert source.period_most is not None
    share = known_to + source.period_most / source.period - 1
    return read_ratio(source.period / PS_PER_SECOND, period / PS_PER_SECOND, share, _context(system, source))


def _context(system: System, source: Source) -> TimerContext:
    """What the ratio reader must know of what is behind a periodic source: its timer, or else only the clocks."""
    assert source.period is not None
    clock = source.timer.clock if source.timer is not None else system.core.clock
    return TimerContext(
        clock=clock.name,
        clocks={clock.name: clock.hertz for clock in (*system.clocks, clock)},
        setting=source.timer.setting if source.timer is not None else None,
        parents={clock.name: clock.parent for clock in system.clocks if clock.parent},
        tolerance=clock.tolerance,
        most_excess=source.period / PS_PER_SECOND / 20,
    )
