"""How much of the core is taken in the long run, split by who takes it."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from tachys.bounds.arrivals import least_rate
from tachys.bounds.result import IsrBounds, LoadBounds, LoadShare
from tachys.bounds.window import Line
from tachys.model.system import Loop, Step, System


def load_bounds(system: System, lines: Sequence[Line], isrs: dict[str, IsrBounds]) -> LoadBounds:
    """Long-run least and most load. A loop step without a gate can fill all that is left."""
    shares = [_isr_share(system, line, isrs[line.isr.name].lost) for line in lines]
    reason = ""
    wanted = sum((share.most for share in shares), Fraction(0))
    if wanted > 1:
        reason = f"the routines alone want {float(wanted):.1%} of the core"
    if system.loop:
        loop_shares, filler = _loop_shares(system, system.loop, lines, max(1 - wanted, Fraction(0)))
        shares += loop_shares
        if filler and not reason:
            reason = f"step.{filler} runs in every pass, so the loop takes all that the routines leave"
    most = min(sum((share.most for share in shares), Fraction(0)), Fraction(1))
    least = min(sum((share.least for share in shares), Fraction(0)), most)
    return LoadBounds(least, most, tuple(shares), reason)


def _isr_share(system: System, line: Line, may_lose: bool) -> LoadShare:
    core, isr = system.core, line.isr
    least = Fraction(0)
    if not may_lose:
        # n runs back to back cost entry + (n-1)·chain + exit besides their bodies
        overhead = min(core.entry.least + core.exit.least, core.chain.least)
        merged = isr.pending if isr.serves_all else 1
        cost = isr.cost.least + Fraction(overhead, merged)
        least = cost * least_rate(system.source(isr.on[0].removeprefix("source.")))
    return LoadShare(f"isr.{isr.name}", least, line.share)


def _loop_shares(
    system: System, loop: Loop, lines: Sequence[Line], left: Fraction
) -> tuple[list[LoadShare], str | None]:
    """The share of every step and of the overhead of the passes in which one ran; who fills the rest, if any."""
    served = sum((line.curve.rate() for line in lines), Fraction(0))
    halts = any(step.sleeps and not step.unless and step.every is None and step.polls is None for step in loop.steps)
    shares, passes, filler = [], Fraction(0), None
    for step in loop.steps:
        rate = _step_rate(step, lines)
        if rate is None and halts:
            rate = served  # a pass ends in a halt, and every halt in at least one routine served
        if rate is None:
            filler = filler or (step.name if step.cost.most else None)
            shares.append(LoadShare(f"step.{step.name}", Fraction(0), left if step.cost.most else Fraction(0)))
            continue
        if step.cost.most:
            passes += rate
        shares.append(LoadShare(f"step.{step.name}", Fraction(0), min(rate * step.cost.most, left)))
    if halts:
        passes = min(passes, served)
    shares.append(LoadShare("loop.overhead", Fraction(0), left if filler else min(passes * loop.overhead.most, left)))
    return shares, filler


def _step_rate(step: Step, lines: Sequence[Line]) -> Fraction | None:
    """The most runs of a step per ps; None when nothing but the pass limits it."""
    rates = []
    if step.every is not None:
        rates.append(Fraction(1, step.every.least))
    if step.polls is not None:
        rates.append(sum((line.curve.rate() for line in lines if step.polls in line.isr.sets), Fraction(0)))
    return min(rates, default=None)
