"""Systems by chance as one would build them: timers, serial lines, conversions that the loop restarts, feeds, sleep."""

from __future__ import annotations

import random


class _Made:
    """One system: its text grows by one part after the other."""

    def __init__(self, seed: int) -> None:
        self.dice = random.Random(f"system {seed}")
        self.clock = self.dice.choice([16, 48, 72])
        self.levels = self.dice.choice([3, 4, 8])
        self.lines: list[str] = []
        self.steps: list[str] = []

    def us(self, least: float, most: float) -> str:
        """A time, mostly a range whose least is half of its most or more."""
        top = self.dice.uniform(least, most)
        if self.dice.random() < 0.3:
            return f'"{top:.2f} us"'
        return f'["{top * self.dice.uniform(0.4, 0.9):.2f} us", "{top:.2f} us"]'

    def isr(self, name: str, on: str, most: float, more: str = "") -> None:
        """A routine on any level."""
        self.lines.append(f'[isr.{name}]\non = "{on}"\nlevel = {self.dice.randrange(self.levels)}\n'
                          f"cost = {self.us(1, most)}\n{more}")  # fmt: skip

    def timer(self, name: str) -> None:
        """A periodic routine, some with jitter."""
        period = self.dice.choice([250, 500, 1000, 2000, 5000])
        jitter = f'jitter = "{self.dice.uniform(1, period / 20):.1f} us"\n' if self.dice.random() < 0.3 else ""
        self.lines.append(f'[source.{name}]\nevery = "{period} us"\n{jitter}')
        self.isr(name, f"source.{name}", period / 20)

    def serial(self, name: str) -> None:
        """Characters that come as they come."""
        baud = self.dice.choice([19_200, 57_600, 115_200])
        line = f'baud = "{baud} Bd", bits = 10, frame = {self.dice.choice([1, 8, 32])}'
        self.lines.append(f"[source.{name}]\nserial = {{ {line} }}\n")
        self.isr(name, f"source.{name}", 8, f'sets = "{name}"\n')
        self.step(name, f'polls = "{name}"\ncost = {self.us(3, 25)}\n')

    def conversion(self, name: str) -> None:
        """A step acts on a value and begins the next conversion."""
        moment = self.dice.choice(["start", "end"])
        self.lines.append(f'[unit.{name}]\non = "step.{name}.{moment}"\nprimed = true\ntakes = {self.us(10, 200)}\n')
        self.isr(name, f"unit.{name}", 6, f'sets = "{name}"\n')
        pause = f'pause = "{self.dice.uniform(2, 20):.1f} us"\n' if self.dice.random() < 0.3 else ""
        self.step(name, f'polls = "{name}"\ncost = {self.us(5, 60)}\n{pause}')

    def feed(self, name: str) -> None:
        """A tick sets a flag, and the loop feeds the watchdog."""
        period = self.dice.choice([5, 10, 20])
        self.lines.append(f'[source.{name}]\nevery = "{period} ms"\n')
        self.isr(name, f"source.{name}", 5, f'sets = "{name}"\n')
        self.step(name, f'polls = "{name}"\ncost = {self.us(5, 400)}\n')
        self.lines.append(f'[watchdog]\nfed_by = "step.{name}.start"\ntimeout = "{2 * period} ms"\n'
                          f'not_before = "{period / 2} ms"\n')  # fmt: skip

    def timed(self, name: str) -> None:
        """A software timer."""
        rearm = self.dice.choice(["grid", "skip", "now"])
        every = self.dice.choice([2, 5, 10, 50])
        self.step(name, f'every = "{every} ms"\nrearm = "{rearm}"\ncost = {self.us(20, 700)}\n')

    def sending(self, name: str) -> None:
        """A step sends, and another waits until the line is idle, for so long at most."""
        self.lines.append(f'[unit.{name}]\non = "step.{name}.end"\ntakes = {self.us(20, 90)}\n')
        self.step(name, f'every = "{self.dice.choice([1, 5, 20])} ms"\ncost = {self.us(5, 40)}\n')
        self.step(
            f"{name}_done",
            f'waits = "unit.{name}"\nat_most = "{self.dice.randint(30, 120)} us"\ncost = {self.us(2, 9)}\n',
        )

    def step(self, name: str, keys: str) -> None:
        """A step at any place of the loop."""
        self.steps.insert(self.dice.randint(0, len(self.steps)), f"[step.{name}]\n{keys}")


def text(seed: int) -> str:
    """The model of a seed."""
    made = _Made(seed)
    entry = made.dice.choice([12, 16, 24])
    made.lines.append(f'tachys = 1\n[core]\nclock = "{made.clock} MHz"\nlevels = {made.levels}\n'
                      f'entry = "{entry} cycles"\nexit = "{entry - 2} cycles"\nwake = "{made.dice.choice([0, 40, 400])} cycles"\n'
                      f"[loop]\noverhead = {made.us(0.5, 3)}\n")  # fmt: skip
    made.timer("tick")
    parts = [made.timer, made.timer, made.serial, made.conversion, made.conversion, made.timed, made.sending]
    for number in range(made.dice.choice([2, 3, 4, 5])):
        part = made.dice.choice(parts)
        part(f"{part.__name__}{number}")
    if made.dice.random() < 0.5:
        made.feed("feed")
    way = made.dice.random()
    if way < 0.4:
        made.steps.append(f"[step.rest]\ncost = {made.us(1, 200)}\n")
    elif way < 0.7:
        made.steps.append('[step.rest]\ncost = "0 us"\nsleep = true\n')
    if not made.steps:
        made.steps.append('[step.idle]\ncost = "1 us"\n')
    return "\n".join([*made.lines, *made.steps])
