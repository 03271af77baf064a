"""How fast the engine plays, against a plain SimPy model of the same system in the same run.

Twelve nested periodic routines, each on a level of its own. Prints activations a second of both, their ratio, and what
a recording of ten million records takes. Run by ``make bench``.
"""

from __future__ import annotations

import resource
import time

import simpy

from tachys.model.loading import read_model
from tachys.model.system import System
from tachys.simulation.engine import Run
from tachys.simulation.options import RunOptions
from tachys.simulation.running import play_part
from tachys.simulation.statistics import counted

PERIODS_US = (100, 130, 170, 210, 290, 370, 530, 710, 970, 1310, 1700, 2300)
SHARE = 0.05


def system() -> System:
    """The twelve routines as a model."""
    text = 'tachys = 1\n[core]\nclock = "48 MHz"\nlevels = 12\nentry = "12 cycles"\nexit = "10 cycles"\nchain = "6 cycles"\n'
    for level, period in enumerate(PERIODS_US):
        text += f'[source.s{level}]\nevery = "{period} us"\n[isr.r{level}]\non = "source.s{level}"\nlevel = {level}\n'
        text += f'cost = "{period * SHARE:.3f} us"\npending = 2\n'
    return read_model(text, "bench")


def crowd(count: int) -> System:
    """So many routines, each on a level of its own, that take half of the core together."""
    text = f'tachys = 1\n[core]\nclock = "480 MHz"\nlevels = {count}\nentry = "12 cycles"\nexit = "10 cycles"\n'
    for level in range(count):
        period = 100 * count + 7 * level
        text += f'[source.s{level}]\nevery = "{period} us"\n[isr.r{level}]\non = "source.s{level}"\nlevel = {level}\n'
        text += f'cost = "{period / 2 / count:.3f} us"\npending = 2\n'
    return read_model(text, "crowd")


def simpy_activations(length_us: float) -> int:
    """The same in SimPy: a preemptive resource, a process a routine."""
    env = simpy.Environment()
    core = simpy.PreemptiveResource(env)
    done = 0

    def body(level: int, cost: float):  # type: ignore[no-untyped-def]
        nonlocal done
        left = cost
        while left > 0:
            with core.request(priority=level) as request:
                begun = None
                try:
                    yield request
                    begun = env.now
                    yield env.timeout(left)
                    left = 0
                except simpy.Interrupt:
                    left -= 0 if begun is None else env.now - begun
        done += 1

    def source(level: int, period: float):  # type: ignore[no-untyped-def]
        while True:
            env.process(body(level, period * SHARE))
            yield env.timeout(period)

    for level, period in enumerate(PERIODS_US):
        env.process(source(level, period))
    env.run(until=length_us)
    return done


def ours(length_us: int, model: System | None = None) -> int:
    """Activations that the engine plays in statistics mode."""
    model = model or system()
    run = Run(model, RunOptions(costs="most", phases="together"), length_us * 10**6, record=False, compiled=True)
    for _ in run.slices():
        pass
    seen = counted(run.memory, run.index)
    return sum(seen[f"{isr.thing}.span"].count for isr in model.isrs)


def example(system: System, length: int, *, needs: bool) -> None:
    """A model for ``length`` ps, with or without its needs followed."""
    if needs:
        play_part(system, RunOptions(), length, 0, compiled=True)
        return
    run = Run(system, RunOptions(), length, record=False, compiled=True)
    for _ in run.slices():
        pass


def main() -> None:
    """Measure and print."""
    ours(1000)  # loads the compiled engine
    begun = time.perf_counter()
    many = ours(100_000_000)
    fast = many / (time.perf_counter() - begun)
    begun = time.perf_counter()
    few = simpy_activations(500_000)
    slow = few / (time.perf_counter() - begun)
    print(f"engine, statistics: {many} activations, {fast / 1e6:.2f} million a second")
    print(
        f"SimPy:              {few} activations, {slow / 1e3:.1f} thousand a second; the engine is {fast / slow:.0f} times as fast"
    )
    idle = read_model('tachys = 1\n[core]\nclock = "48 MHz"\nentry = "1 us"\nexit = "1 us"\n[source.s]\nevery = "1 s"\n[isr.r]\n'
                      'on = "source.s"\ncost = "1 us"\nsets = "f"\n[loop]\noverhead = "1 us"\n[step.p]\npolls = "f"\n'
                      'cost = "1 us"\n', "idle")  # fmt: skip
    begun = time.perf_counter()
    run = Run(idle, RunOptions(), 3600 * 10**12, record=False)
    for _ in run.slices():
        pass
    passes = counted(run.memory, run.index)["pass"].count
    print(
        f"an hour of a spinning loop: {passes / 1e9:.2f} thousand million passes in {time.perf_counter() - begun:.2f} s"
    )
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.perf_counter()
    run = Run(system(), RunOptions(), 62 * 10**12, record=True)
    records = run.play()
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(f"a recorded timeline of {len(records.time) / 1e6:.1f} million records: {time.perf_counter() - begun:.1f} s, "
          f"peak memory of the process {peak / 2**20:.2f} GiB, {(peak - before) / 2**20:.2f} GiB of it for the records")  # fmt: skip


if __name__ == "__main__":
    main()
