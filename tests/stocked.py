"""Random models around buffers: rings that a step empties, FIFOs that a routine empties, lines that prints fill."""

import random


class Stocked:
    """A model from a seed: ``text`` in nanoseconds, everything drawn so that equalities and extremes are likely."""

    def __init__(self, seed):
        self.dice = random.Random(seed)
        self.lines = []
        self.isrs = self.steps = 0

    def number(self, least, most):
        """A number that is an end of the range as often as not."""
        return self.dice.choice([least, most, self.dice.randint(least, most), self.dice.randint(least, most)])

    def span(self, least, most):
        """A time, or a range of times."""
        a, b = sorted((self.number(least, most), self.number(least, most)))
        return f'"{a} ns"' if a == b or self.dice.random() < 0.5 else f'["{a} ns", "{b} ns"]'

    def text(self):
        """The model."""
        dice = self.dice
        self.add("tachys = 1\n[core]", clock='"1 GHz"', levels=4, entry='"2 ns"', exit='"1 ns"')
        if dice.random() < 0.3:
            self.add(None, chain=f'"{self.number(0, 6)} ns"')
        if dice.random() < 0.2:
            self.add(None, nesting="false")
        if dice.random() < 0.2:
            self.add(None, late_arrival="true")
        self.source("t")
        self.add("[isr.t]", on='"source.t"', level=self.number(0, 3), cost=self.span(5, 60))
        self.add("[loop]", overhead='"3 ns"')
        for number in range(dice.choice([1, 1, 2, 3])):
            dice.choice([self.ring, self.fifo, self.line])(f"b{number}")
        self.add("[step.rest]", cost=self.span(1, 200))
        if dice.random() < 0.4:
            self.add(None, every=f'"{self.number(300, 4000)} ns"')
        return "\n".join(self.lines) + "\n"

    def add(self, table, **keys):
        """A table, or more keys of the one before."""
        if table:
            self.lines.append(table)
        self.lines += [f"{key} = {value}" for key, value in keys.items()]

    def source(self, name):
        """A source, back to back or with a period."""
        gap = self.number(40, 900)
        self.add(f"[source.{name}]", **{self.dice.choice(["gap", "every"]): f'"{gap} ns"'})

    def feeds(self, name, most=3):
        """What feeds a buffer: a source at once or its routine."""
        self.source(name)
        if self.dice.random() < 0.4:
            self.add(f"[isr.{name}]", on=f'"source.{name}"', level=self.number(0, 3), cost=self.span(2, 30))
            return f'"isr.{name}.end"'
        items = self.number(1, most)
        return f'"source.{name}"' if items == 1 else f'{{ event = "source.{name}", items = {items} }}'

    def asks(self, depth):
        """When a buffer asks: threshold, quiet time."""
        keys = {}
        if self.dice.random() < 0.6:
            keys["threshold"] = self.number(1, depth)
        if self.dice.random() < 0.4:
            keys["quiet"] = self.span(10, 500)
        return keys

    def ring(self, name):
        """A ring that a step empties."""
        depth, feeds = self.number(1, 12), self.feeds(name)
        polls = self.dice.random() < 0.5
        asks = self.asks(depth) if polls else {}
        self.add(f"[buffer.{name}]", depth=depth, fed_by=feeds, **asks)
        most = self.number(asks.get("threshold", 1), depth)
        drains = f'"buffer.{name}"' if self.dice.random() < 0.6 else f'{{ from = "buffer.{name}", most = {most} }}'
        self.add(f"[step.{name}]", drains=drains, each=self.span(0, 40), cost=self.span(0, 50))
        if polls:
            self.add(None, polls=f'"buffer.{name}"')
        elif self.dice.random() < 0.3:
            self.add(None, every=f'"{self.number(100, 3000)} ns"')

    def fifo(self, name):
        """A FIFO that a routine empties."""
        depth, feeds = self.number(1, 12), self.feeds(name)
        asks = self.asks(depth)
        self.add(f"[buffer.{name}]", depth=depth, fed_by=feeds, **asks)
        most = self.number(asks.get("threshold", 1), depth)
        drains = f'"buffer.{name}"' if self.dice.random() < 0.6 else f'{{ from = "buffer.{name}", most = {most} }}'
        on = f'"buffer.{name}"'
        if self.dice.random() < 0.2:
            self.source(f"{name}t")
            on = f'"source.{name}t"'
        self.add(f"[isr.{name}d]", on=on, level=self.number(0, 3), drains=drains, cost=self.span(1, 40))
        self.add(None, each=self.span(0, 20))
        if self.dice.random() < 0.3:
            self.add(None, guard='{ level = 0, for = "all" }')

    def line(self, name):
        """A unit that sends what a step prints, or what a source puts."""
        depth = self.number(1, 8)
        prints = self.dice.random() < 0.7
        keys = {} if prints else {"fed_by": self.feeds(name)}
        self.add(f"[buffer.{name}]", depth=depth, **keys)
        self.add(f"[unit.{name}]", drains=f'"buffer.{name}"', takes=self.span(10, 150))
        if self.dice.random() < 0.3:
            self.add(f"[isr.{name}e]", on=f'"unit.{name}"', level=self.number(0, 3), cost=self.span(2, 10))
        if prints:
            for number in range(self.dice.choice([1, 1, 2])):
                items = self.number(1, 16)
                self.add(f"[step.{name}{number}]", cost=self.span(1, 40))
                self.add(None, puts=f'{{ into = "buffer.{name}", items = [{self.number(0, items)}, {items}] }}')
                if self.dice.random() < 0.8:
                    self.add(None, every=f'"{self.number(200, 6000)} ns"')
