"""Models by chance, made to break things: equal times, zeros, everything at one instant, rings, long chains.

A generator of its own: it shares nothing with ``strategies`` and draws where a theory is most likely to be wrong. A
model is a dict of tables, so that it can be changed, relaxed and shrunk; ``toml`` writes it.
"""

import random
from decimal import Decimal

NS = 1000
WOVEN = 1_000_000  # seeds below are as they were before there were tokens
KINDS = ("clock", "sleep", "apart", "source", "unit", "isr", "flag", "buffer", "step", "need", "probe")
STOCKED = 2_000_000  # as were seeds below before there were buffers
FULL = 3_000_000  # from here on all have some
INSIDE = 100_000_000  # from here on routines do more each n-th time; less that the seed of what they stand in

MEETING = 200_000_000  # from here on steps poll several flags; less that the seed of what they stand in
TICKING = (
    1_000_000_000  # from here on steps are due by ticks, and routines pause; less that the seed of what they stand in
)
SHIFTING = 4_096_000_000_000  # from here on guards begin now sooner, now later; less that the seed of the same
ANSWERING = 2_048_000_000_000  # from here on transfers go on with their own routine; less that the seed of the same
DRAINING = 1_024_000_000_000  # from here on routines drain until nothing is in; less that the seed of the same
EMPTYING = 512_000_000_000  # from here on steps drain until nothing is in; less that the seed of what they stand in
RELOADING = 256_000_000_000  # from here on routines reload timers; less that the seed of what they stand in
WAVERING = 128_000_000_000  # from here on entries, exits and waking take now less, now more; less that the same
STEALING = 64_000_000_000  # from here on units take the bus from the core; less that the seed of what they stand in
KEPT_APART = 32_000_000_000  # from here on sources keep apart; less that the seed of what they stand in
STANDING = 16_000_000_000  # from here on clocks stand still in sleep; less that the seed of what they stand in
DEEP = 8_000_000_000  # from here on steps sleep deep; less that the seed of what they stand in
SILENT = 4_000_000_000  # from here on units may not answer; less that the seed of what they stand in
SPILLING = 600_000_000  # from here on something hangs on losses of buffers; less that the seed of what they stand in


class Time(int):
    """A time in ps."""


def toml(model):
    """The text of a model."""
    lines = ["tachys = 1"]
    for section, table in model.items():
        if section in KINDS:
            for name, body in table.items():
                lines += [f"[{section}.{name}]", *(f"{key} = {value(each)}" for key, each in body.items())]
        else:
            lines += [f"[{section}]", *(f"{key} = {value(each)}" for key, each in table.items())]
    return "\n".join(lines) + "\n"


def value(given):
    if isinstance(given, Time):
        return f'"{given // NS} ns"' if given % NS == 0 else f'"{int(given)} ps"'
    if isinstance(given, bool):
        return str(given).lower()
    if isinstance(given, str):
        return f'"{given}"'
    if isinstance(given, list):
        return "[" + ", ".join(map(value, given)) + "]"
    if isinstance(given, dict):
        return "{ " + ", ".join(f'"{key}" = {value(each)}' for key, each in given.items()) + " }"
    return str(given)


class Attack:
    """One model by chance."""

    def __init__(self, seed):
        self.seed, self.dice = seed, random.Random(seed)
        self.few = [self.dice.randint(1, 12) for _ in range(3)]
        self.shortest = self.dice.choice([4, 12, 40, 120])

    def one(self, *choices):
        return self.dice.choice(choices)

    def chance(self, share):
        return self.dice.random() < share

    def cost(self, most=14):
        """A cost: often the same few numbers, or none at all."""
        way = self.dice.random()
        if way < 0.15:
            return Time(0)
        if way < 0.6:
            return Time(self.dice.choice(self.few) * NS)
        return Time(self.dice.randint(0, most) * NS + (self.one(0, 0, 0, 1, 999)))

    def span(self, most=14, least=0):
        """A range of costs, or one cost."""
        a, b = sorted((max(self.cost(most), least), max(self.cost(most), least)))
        return [Time(a), Time(b)] if self.chance(0.5) else Time(b)

    def distance(self):
        """A period or gap: sums and multiples of the few numbers, equal and harmonic ones, or any."""
        way = self.dice.random()
        if way < 0.4:
            total = sum(self.dice.choice(self.few) * self.one(1, 1, 2, 3) for _ in range(self.dice.randint(1, 5)))
        elif way < 0.6:
            total = self.shortest * self.one(1, 2, 4, 5, 10)
        else:
            total = self.dice.randint(self.shortest, 20 * self.shortest)
        return Time(max(total, 2) * NS + self.one(0, 0, 0, 0, 1, -1))

    def core(self):
        core = {"clock": "1 GHz", "levels": self.levels, "entry": Time(self.one(0, 0, 1, 2, 8) * NS),
                "exit": Time(self.one(0, 0, 1, 2, 12) * NS)}  # fmt: skip
        if self.chance(0.6):
            core["chain"] = Time(self.one(0, 1, 3, 9) * NS)
        if self.chance(0.3):
            core["nesting"] = False
        if self.chance(0.3):
            core["late_arrival"] = True
        if self.chance(0.5):
            core["wake"] = Time(self.one(0, 1, 7) * NS)
        if self.chance(0.3):
            core["urgent"] = "high"
        return core

    def source(self):
        way = self.one("every", "every", "every", "gap", "burst")
        if way == "every":
            made = {"every": self.distance()}
            if self.chance(0.4):
                made["jitter"] = Time(self.dice.randint(0, 60) * NS)
            if self.chance(0.4):
                made["offset"] = Time(
                    self.dice.choice([0, 0, self.dice.randint(0, 40), self.dice.randint(0, 400)]) * NS
                )
            if self.chance(0.15):
                made["tolerance"] = self.one("1 %", "100 ppm", "20 %")
            return made
        if way == "gap":
            made = {"gap": self.distance()}
            if self.chance(0.3):
                made["mean"] = Time(made["gap"] * self.one(1, 2, 3))
            return made
        count, spaced = self.dice.randint(1, 5), Time(self.dice.randint(1, 30) * self.one(1, NS))
        every = (count - 1) * spaced + self.one(1, NS, self.dice.randint(1, 300) * NS)
        return {"burst": {"count": count, "spaced": spaced, "every": Time(max(every, self.shortest * NS // 2))}}

    def unit(self, events):
        made = {"on": self.some(events, 2), "takes": self.span(40, NS)}
        busy = self.one("drop", "restart", "queue", "queue")
        if self.chance(0.5) or busy != "drop":
            made["busy"] = busy
            if busy == "queue" and self.chance(0.8):
                made["depth"] = self.one(1, 2, 3, 8)
        if self.chance(0.35):
            made["primed"] = True
        return made

    def some(self, events, most):
        """One event, or a few."""
        if self.chance(0.7):
            return self.dice.choice(events)
        return list(dict.fromkeys(self.dice.choice(events) for _ in range(self.dice.randint(1, most))))

    def guard(self, cost):
        top = cost[1] if isinstance(cost, list) else cost
        if self.chance(0.3) or not top:
            return {"level": self.dice.randrange(self.levels), "for": "all"}
        at = Time(self.dice.randint(0, top))
        made = {"level": self.dice.randrange(self.levels), "at": at}
        length = Time(self.dice.choice([0, top - at, self.dice.randint(0, top - at)]))
        made["for"] = [Time(length // 2), length] if self.chance(0.3) else length
        return made

    def isr(self, events):
        made = {"on": self.some(events, 3), "level": self.dice.randrange(self.levels)}
        many = made["on"] if isinstance(made["on"], list) else []
        if self.chance(0.5):
            made["order"] = self.dice.randint(-1, 1)
        cost = self.span()
        made["cost"] = {event: self.span() for event in many} if many and self.chance(0.4) else cost
        if not isinstance(made["cost"], dict) and self.chance(0.3):
            made["guard"] = [self.guard(cost) for _ in range(2)] if self.chance(0.2) else self.guard(cost)
        if self.chance(0.5):
            made["pending"] = self.one(1, 2, 3, 9)
        if self.chance(0.3):
            made["serves"] = "all"
        if self.flags and self.chance(0.6):
            made["sets"] = self.some(self.flags, 2)
        return made

    def step(self, units):
        made = {"cost": self.span(20)}
        if self.chance(0.25):
            made["guard"] = self.guard(made["cost"])
        if self.flags and self.chance(0.4):
            made["polls"] = self.dice.choice(self.flags)
        if self.chance(0.35):
            made["every"] = Time(self.dice.choice([self.distance(), self.dice.randint(20, 900) * NS]))
            made["rearm"] = self.one("grid", "skip", "now")
        if self.chance(0.25) and (units or self.flags):
            made["waits"] = self.dice.choice([*(f"unit.{unit}" for unit in units), *self.flags])
            if self.chance(0.6):
                made["at_most"] = Time(self.dice.choice([1, NS, 9 * NS, 60 * NS]))
        if self.chance(0.2):
            made["pause"] = Time(self.dice.randint(1, 50) * NS)
        if self.chance(0.25):
            made["sleep"] = {"unless": self.some(self.flags, 2)} if self.flags and self.chance(0.5) else True
        return made

    def need(self, events, bodies):
        kind = self.one("within", "within", "within", "age", "every", "jitter", "lost", "load", "over")
        if kind in ("within", "age"):
            made = {"from": self.dice.choice(events), "to": self.dice.choice(events), "within": self.limit()}
            return made | ({"age": True} if kind == "age" else {})
        if kind == "every":
            return {"of": self.dice.choice(events), "every": self.limit(), "give_or_take": f"{self.one(5, 50, 80)} %"}
        if kind == "jitter":
            return {"of": self.dice.choice(events), "jitter": self.limit()}
        if kind == "lost":
            return {"of": self.dice.choice(bodies), "lost": self.one(0, 0, 1, 5)}
        made = {"load": f"{self.one(10, 30, 50, 80, 95, 100)} %"}
        return made | ({"over": self.limit()} if kind == "over" else {})

    def limit(self):
        return Time(self.dice.choice([self.distance(), self.dice.randint(1, 900) * NS, 1 + self.cost()]))

    def model(self):
        """All of it."""
        self.levels = self.one(1, 2, 2, 3)
        self.flags = [f"f{i}" for i in range(self.one(0, 1, 2))]
        names = {"source": self.one(1, 1, 2, 3, 4), "unit": self.one(0, 0, 1, 2, 3), "isr": self.one(1, 2, 2, 3, 4),
                 "step": self.one(0, 0, 1, 2, 3)}  # fmt: skip
        names = {kind: [f"{kind[0]}{i}" for i in range(many)] for kind, many in names.items()}
        firm = [f"source.{name}" for name in names["source"]]
        raised = [f"{kind}.{name}{moment}" for kind in ("unit", "isr", "step") for name in names[kind]
                  for moment in (("", ".start") if kind == "unit" else (".start", ".end"))]  # fmt: skip
        share = self.one(0.0, 0.3, 0.6)  # how much of it hangs on what the model itself raises
        model = {"core": self.core(), "source": {name: self.source() for name in names["source"]}}

        def causes():
            return raised if raised and self.chance(share) else firm

        model["unit"] = {name: self.unit(causes()) for name in names["unit"]}
        model["isr"] = {name: self.isr(causes()) for name in names["isr"]}
        if names["step"]:
            overhead = self.span(6, NS)
            model["loop"] = {"overhead": overhead}
            model["step"] = {name: self.step(names["unit"]) for name in names["step"]}
        bodies = firm + [f"{kind}.{name}" for kind in ("unit", "isr") for name in names[kind]]
        bodies += [
            f"flag.{flag}" for flag in self.flags if any(flag in isr.get("sets", ()) for isr in model["isr"].values())
        ]
        model["need"] = {f"n{i}": self.need(firm + raised, bodies) for i in range(self.one(0, 2, 4))}
        if self.chance(0.3):
            model["watchdog"] = {"fed_by": self.dice.choice(firm + raised), "timeout": self.limit()}
            if self.chance(0.5):
                model["watchdog"]["not_before"] = self.limit()
        return model


class Woven(Attack):
    """A model by chance through whose loop tokens go round: a unit, routines, a flag, a step, and the unit again.

    Beside such rings: steps that a tick wakes by a flag, halts, and waits for what the loop itself has begun. Most of
    them are as one would write them, some have a second token, a second taker, a second cause.
    """

    def ring(self, model, name):
        """One round, mostly with one token."""
        unit, step, routines = f"u{name}", f"s{name}", [f"i{name}{k}" for k in range(self.one(1, 1, 2))]
        odd = self.chance(0.25)
        model["unit"][unit] = {"on": f"step.{step}.{self.one('start', 'end', 'end')}", "takes": self.span(60, NS)}
        if not (odd and self.chance(0.3)):
            model["unit"][unit]["primed"] = True
        if self.chance(0.4):
            model["unit"][unit]["busy"] = self.one("drop", "restart", "queue")
        cause = f"unit.{unit}"
        if self.chance(0.2):
            model["unit"][f"v{name}"] = {"on": cause, "takes": self.span(30, NS)}
            cause = f"unit.v{name}" + self.one("", ".start")
        for routine in routines:
            model["isr"][routine] = {"on": cause, "level": self.dice.randrange(self.levels), "cost": self.span()}
            cause = f"isr.{routine}.{self.one('end', 'end', 'start')}"
        last = model["isr"][routines[-1]]
        last["sets"] = f"g{name}"
        if odd and self.chance(0.5):
            on = self.one(cause, *(f"source.{each}" for each in model["source"]), f"step.{step}.end")
            model["isr"][routines[0]]["on"] = list(dict.fromkeys([model["isr"][routines[0]]["on"], on]))
        self.add_step(model, step, {"polls": f"g{name}", "cost": self.span(20)})
        if self.chance(0.2):
            model["step"][step]["pause"] = Time(self.dice.randint(1, 30) * NS)
        if self.chance(0.15):
            model["step"][step] |= {
                "every": Time(self.dice.randint(20, 300) * NS),
                "rearm": self.one("grid", "skip", "now"),
            }
        if odd and self.chance(0.3):
            self.add_step(model, f"t{name}", {"polls": f"g{name}", "cost": self.span(20)})

    def tick(self, model, name):
        """A step behind a flag that a source of its own sets through a routine."""
        model["source"][f"k{name}"] = {"every": Time(self.dice.randint(60, 900) * NS)} | (
            {"jitter": Time(self.dice.randint(0, 60) * NS)} if self.chance(0.3) else {}
        )
        model["isr"][f"k{name}"] = {"on": f"source.k{name}", "level": self.dice.randrange(self.levels),
                                    "cost": self.span(), "sets": f"k{name}"}  # fmt: skip
        self.add_step(model, f"k{name}", {"polls": f"k{name}", "cost": self.span(20)})

    def errand(self, model, name):
        """A step begins a unit, and the same or another waits for it, or for the flag that its routine sets."""
        begun, waits = f"b{name}", self.one(f"b{name}", f"w{name}")
        model["unit"][f"e{name}"] = {"on": f"step.{begun}.{'start' if begun == waits else self.one('start', 'end')}",
                                     "takes": self.span(40, NS)}  # fmt: skip
        what = f"unit.e{name}"
        if self.chance(0.6):
            model["isr"][f"e{name}"] = {"on": f"unit.e{name}", "level": self.dice.randrange(self.levels),
                                        "cost": self.span(), "sets": f"e{name}"}  # fmt: skip
            what = f"e{name}"
        made = {"waits": what, "cost": self.span(20)}
        if self.chance(0.4):
            made["at_most"] = Time(self.dice.randint(1, 300) * NS)
        first = {"cost": self.span(10, NS)} if waits != begun else {}
        for step, table in ((begun, first), (waits, made)):
            if table:
                self.add_step(model, step, table)

    def bit(self, model, name):
        """Hardware sets a flag, and a step polls it, or waits for it; mostly nobody else sets it."""
        step, begun = f"q{name}", self.chance(0.5)
        if begun:
            model["unit"][f"q{name}"] = {
                "on": f"step.{step}.{self.one('start', 'end', 'end')}",
                "takes": self.span(60, NS),
            }
            if self.chance(0.8):
                model["unit"][f"q{name}"]["primed"] = True
            event = f"unit.q{name}" + self.one("", "", ".start")
        else:
            event = f"source.{self.dice.choice(list(model['source']))}"
        model.setdefault("flag", {})[f"q{name}"] = {"set_by": [event]}
        if self.chance(0.2):
            model["flag"][f"q{name}"]["set_by"] += (
                [f"unit.{self.dice.choice(list(model['unit']))}"] if model["unit"] else []
            )
        table = {"cost": self.span(20, NS)}
        table["polls" if self.chance(0.8) else "waits"] = f"q{name}"
        self.add_step(model, step, table)
        if self.chance(0.15):
            model["isr"][self.dice.choice(list(model["isr"]))]["sets"] = f"q{name}"

    def relay(self, model, name):
        """The end of one step sets the flag of another; a unit that this one begins may close the round."""
        first, last = f"m{name}", f"n{name}"
        self.add_step(model, first, {"cost": self.span(20, NS), "sets": f"m{name}"})
        self.add_step(model, last, {"cost": self.span(20, NS), "polls": f"m{name}"})
        way = self.one("every", "ring", "bit", "free", "itself")
        if way == "every":
            model["step"][first] |= {
                "every": Time(self.dice.randint(20, 900) * NS),
                "rearm": self.one("grid", "skip", "now"),
            }
        elif way in ("ring", "bit"):
            model["unit"][f"m{name}"] = {"on": f"step.{last}.{self.one('start', 'end')}", "takes": self.span(60, NS),
                                         "primed": True}  # fmt: skip
            model["step"][first]["polls"] = f"o{name}"
            if way == "bit":
                model.setdefault("flag", {})[f"o{name}"] = {"set_by": [f"unit.m{name}"]}
            else:
                model["isr"][f"m{name}"] = {"on": f"unit.m{name}", "level": 0, "cost": self.span(), "sets": f"o{name}"}
        elif way == "itself":
            model["step"][last]["sets"] = f"m{name}"

    def add_step(self, model, name, table):
        """At any place of the loop."""
        steps = [*model["step"].items()]
        steps.insert(self.dice.randint(0, len(steps)), (name, table))
        model["step"] = dict(steps)

    def model(self):
        """All of it."""
        model = super().model()
        if "step" not in model:
            model["loop"], model["step"] = {"overhead": self.span(6, NS)}, {}
        if self.chance(0.5):  # little else
            kept = self.dice.choice(list(model["source"]))
            model |= {"source": {kept: model["source"][kept]}, "unit": {}, "step": {}, "need": {}}
            model["isr"] = {"i0": {"on": f"source.{kept}", "level": 0, "cost": self.span()}}
            model.pop("watchdog", None)
        for name in range(self.one(1, 1, 2, 3)):
            self.one(self.ring, self.ring, self.tick, self.errand, self.bit, self.relay)(model, name)
        if self.chance(0.5):
            self.add_step(model, "z", {"cost": self.span(9)})
        if self.chance(0.3):
            flags = flags_of(model)
            self.add_step(
                model, "sleep", {"cost": Time(0), "sleep": {"unless": flags} if flags and self.chance(0.7) else True}
            )
        events = [f"step.{name}.{moment}" for name in model["step"] for moment in ("start", "end")]
        events += [f"isr.{name}.end" for name in model["isr"]]
        for number in range(self.one(0, 1, 2)):
            need = self.need(events, [f"isr.{name}" for name in model["isr"]])
            if "load" in need and self.chance(0.7):
                bodies = [f"{kind}.{name}" for kind in ("isr", "step") for name in model[kind]]
                need["of"] = "interrupts" if "over" in need or self.chance(0.4) else self.some(bodies, 3)
            model["need"][f"w{number}"] = need
        if self.chance(0.3):
            model["watchdog"] = {"fed_by": self.dice.choice(events), "timeout": self.limit()}
            if self.chance(0.5):
                model["watchdog"]["not_before"] = self.limit()
        return model


class Stocked(Attack):
    """A model by chance with buffers: rings that a step empties, FIFOs that a routine empties, lines that prints fill."""

    def model(self):
        """All of it: buffers in a model as any other."""
        model = super().model()
        if "step" not in model:
            model["loop"], model["step"] = {"overhead": self.span(6, NS)}, {}
        self.fill(model)
        drains = [
            f"{kind}.{name}" for kind in ("isr", "step") for name, each in model[kind].items() if "drains" in each
        ]
        fed = [f"source.{name}" for name in model["buffer"]]
        for number, drain in enumerate(drains):
            buffer = f"buffer.{self.dice.choice(list(model['buffer']))}"
            model["need"][f"b{number}"] = {"of": buffer, "lost": self.one(0, 0, 3)}
            known = [event for event in fed if event[7:] in model["source"]]
            if known:
                model["need"][f"w{number}"] = {
                    "from": self.dice.choice(known), "to": f"{drain}.{self.one('start', 'end')}", "within": self.limit()
                }  # fmt: skip
        return model

    def small(self, *, spills=False, empties=False, drains=False):
        """Buffers and little else, as the stand-in board can play it; where it ``spills`` something hangs on that.

        Where it ``empties``, its steps drain until nothing is in; where it ``drains``, its routines do.
        """
        self.levels, self.flags = 4, []
        model = {"core": {"clock": "1 GHz", "levels": 4, "entry": Time(2 * NS), "exit": Time(NS)}, "source": {}}
        if self.chance(0.3):
            model["core"]["chain"] = Time(self.dice.randint(0, 6) * NS)
        model["core"]["nesting"], model["core"]["late_arrival"] = self.chance(0.8), self.chance(0.2)
        model["source"]["t"] = self.comes()
        model["isr"] = {"t": {"on": "source.t", "level": self.dice.randrange(4), "cost": self.takes(5, 60)}}
        model |= {"unit": {}, "loop": {"overhead": Time(3 * NS)}, "step": {}}
        self.fill(model)
        model["step"]["rest"] = {"cost": self.takes(1, 200)}
        if self.chance(0.4):
            model["step"]["rest"]["every"] = Time(self.number(300, 4000) * NS)
        for name in model["buffer"] if spills else ():
            model["isr"][f"{name}o"] = {
                "on": f"buffer.{name}.lost", "level": self.dice.randrange(4), "cost": self.takes(5, 40)
            }  # fmt: skip
            if self.chance(0.5):
                model.setdefault("flag", {})[f"{name}f"] = {"set_by": f"buffer.{name}.lost"}
                model["step"][f"{name}f"] = {"polls": f"{name}f", "cost": self.takes(5, 40)}
        if empties:
            Emptying(self.seed).emptying(model)
        return toml(Emptying(self.seed).draining(model, small=True) if drains else model)

    def fill(self, model):
        """One to three buffers."""
        model["buffer"] = {}
        for number in range(self.one(1, 1, 2, 3)):
            self.one(self.ring, self.fifo, self.line, self.sender)(model, f"b{number}")

    def number(self, least, most):
        """A number that is an end of the range as often as not."""
        return self.one(least, most, self.dice.randint(least, most), self.dice.randint(least, most))

    def takes(self, least, most):
        """A time of so many ns, or a range."""
        a, b = sorted((Time(self.number(least, most) * NS), Time(self.number(least, most) * NS)))
        return a if a == b or self.chance(0.5) else [a, b]

    def comes(self):
        if self.chance(0.15):
            count, spaced = self.number(2, 6), Time(self.number(1, 60) * NS)
            return {
                "burst": {"count": count, "spaced": spaced, "every": Time(count * spaced + self.number(40, 2000) * NS)}
            }
        return {self.one("gap", "every"): Time(self.number(40, 900) * NS)}

    def feeds(self, model, name):
        """What feeds a buffer: a source at once or its routine."""
        model["source"][name] = self.comes()
        if self.chance(0.4):
            model["isr"][name] = {
                "on": f"source.{name}",
                "level": self.dice.randrange(self.levels),
                "cost": self.takes(2, 30),
            }
            return f"isr.{name}.end"
        items = self.number(1, 3)
        return f"source.{name}" if items == 1 else {"event": f"source.{name}", "items": items}

    def asks(self, depth):
        """When a buffer asks: threshold, quiet time."""
        keys = {"threshold": self.number(1, depth)} if self.chance(0.6) else {}
        keys |= {"quiet": self.takes(10, 500)} if self.chance(0.4) else {}
        if "threshold" not in keys and self.chance(0.5):
            return keys | {"asks_each": self.number(1, depth)}
        return keys | ({"threshold": False} if "quiet" in keys and self.chance(0.3) else {})

    def full(self):
        """What becomes of one more."""
        return {"full": "overwrite"} if self.chance(0.4) else {}

    def drains(self, name, asks, depth):
        """All that is in, or so many."""
        most = self.number(asks.get("threshold") or asks.get("asks_each") or 1, depth)
        return f"buffer.{name}" if self.chance(0.6) else {"from": f"buffer.{name}", "most": most}

    def ring(self, model, name):
        """A ring that a step empties."""
        depth, feeds, polls = self.number(1, 12), self.feeds(model, name), self.chance(0.5)
        asks = self.asks(depth) if polls else {}
        model["buffer"][name] = {"depth": depth, "fed_by": feeds} | asks | self.full()
        made = {"drains": self.drains(name, asks, depth), "each": self.takes(0, 40), "cost": self.takes(0, 50)}
        if polls:
            made["polls"] = f"buffer.{name}"
        elif self.chance(0.3):
            made["every"] = Time(self.number(100, 3000) * NS)
        model["step"][name] = made

    def fifo(self, model, name):
        """A FIFO that a routine empties."""
        depth, feeds = self.number(1, 12), self.feeds(model, name)
        asks = self.asks(depth)
        model["buffer"][name] = {"depth": depth, "fed_by": feeds} | asks
        on = f"buffer.{name}"
        if self.chance(0.2):
            on = f"source.{name}t"
            model["source"][f"{name}t"] = self.comes()
        made = {"on": on, "level": self.dice.randrange(self.levels), "drains": self.drains(name, asks, depth),
                "cost": self.takes(1, 40), "each": self.takes(0, 20)}  # fmt: skip
        if self.chance(0.3):
            made["guard"] = {"level": 0, "for": "all"}
        model["isr"][f"{name}d"] = made
        if self.chance(0.7):
            model["buffer"][name] |= self.full()
        else:  # moved on into a ring
            made["puts"] = {"into": f"buffer.{name}r", "items": "drained"}
            depth, polls = self.number(1, 20), self.chance(0.5)
            asks = self.asks(depth) if polls else {}
            model["buffer"][f"{name}r"] = {"depth": depth} | asks
            step = {
                "drains": self.drains(f"{name}r", asks, depth),
                "each": self.takes(0, 30),
                "cost": self.takes(0, 50),
            }
            model["step"][f"{name}r"] = step | ({"polls": f"buffer.{name}r"} if polls else {})

    def sender(self, model, name):
        """A routine that moves on what is printed, or what an event puts, while its line has room."""
        into = f"{name}l"
        takes = self.takes(*self.one((20, 200), (20, 200), (5, 40)))
        model["buffer"] |= {name: {"depth": self.number(1, 12)}, into: {"depth": self.one(1, 1, self.number(1, 8))}}
        model["unit"][into] = {"drains": f"buffer.{into}", "takes": takes}
        model["isr"][f"{name}s"] = {
            "on": f"buffer.{name}", "level": self.dice.randrange(self.levels), "cost": self.takes(1, 25),
            "drains": self.one(f"buffer.{name}", {"from": f"buffer.{name}", "most": self.number(1, 6)}),
            "puts": {"into": f"buffer.{into}", "items": "drained", "full": "wait"},
        }  # fmt: skip
        if self.chance(0.3):
            model["isr"][f"{name}s"]["each"] = self.takes(1, 8)
        if self.chance(0.4):
            model["buffer"][name]["fed_by"] = self.feeds(model, name)
        else:
            self.prints(model, name)

    def prints(self, model, name):
        """One or two steps that put into a buffer as it has room."""
        for number in range(self.one(1, 1, 2)):
            items = self.number(1, self.one(16, 16, 60))
            made = {
                "cost": self.takes(1, 40),
                "puts": {"into": f"buffer.{name}", "items": [self.number(0, items), items]},
            }
            if self.chance(0.8):
                made["every"] = Time(self.number(200, 6000) * NS)
            model["step"][f"{name}{number}"] = made

    def line(self, model, name):
        """A unit that sends what steps print, or what a source puts."""
        prints = self.chance(0.7)
        model["buffer"][name] = {"depth": self.number(1, 8)}
        model["unit"][name] = {
            "drains": f"buffer.{name}",
            "takes": self.takes(*self.one((10, 150), (10, 150), (2, 12))),
        }
        if not prints:
            if self.chance(0.6):  # asked for each: by a source, or by what else there is
                on = [f"{kind}.{other}.{self.one('start', 'end')}" for kind in ("isr", "step") for other in model[kind]]
                if not on or not self.flags or self.chance(0.6):
                    model["source"][f"{name}a"] = self.comes()
                    on = [f"source.{name}a"]
                model["unit"][name]["on"] = self.dice.choice(on)
            model["buffer"][name] |= {"fed_by": self.feeds(model, name)} | self.full()
            model.setdefault("need", {})[f"s{name}"] = {"of": f"unit.{name}", "lost": self.one(0, 1, 3)}
            if model["buffer"][name]["fed_by"] == f"source.{name}":
                model["need"][f"u{name}"] = {
                    "from": f"source.{name}", "to": f"unit.{name}.start", "within": Time(self.number(10, 4000) * NS)
                }  # fmt: skip
        if self.chance(0.3):
            model["isr"][f"{name}e"] = {"on": f"unit.{name}", "level": self.dice.randrange(self.levels),
                                        "cost": self.takes(2, 10)}  # fmt: skip
        if prints:
            self.prints(model, name)


class Inside(Attack):
    """A model of another attack, whose routines do more each n-th time and have events within them."""

    def inside(self, model):
        """That model, some of whose causes and needs now hang on what lies within routines."""
        inner = [event for name, isr in model["isr"].items() for event in self.more(name, isr, flags_of(model))]
        if not inner:
            return model
        known = [*inner, *(f"source.{name}" for name in model["source"])]
        known += [
            f"{kind}.{name}.{self.one('start', 'end')}" for kind in ("isr", "step") for name in model.get(kind, {})
        ]
        for unit in model.get("unit", {}).values():
            if "drains" not in unit and self.chance(0.4):
                self.counting(unit, known)
        for each in (*model.get("unit", {}).values(), *model["isr"].values()):
            plain = (
                "on" in each and not str(each["on"]).startswith("buffer.") and not isinstance(each.get("cost"), dict)
            )
            if plain and each["on"] and self.chance(0.3):
                each["on"] = self.dice.choice(inner)
        for buffer in model.get("buffer", {}).values():
            if isinstance(buffer.get("fed_by"), str) and self.chance(0.3):
                buffer["fed_by"] = self.dice.choice(inner)
        for need in model.get("need", {}).values():
            for key in ("from", "to") if "from" in need else ("of",) if "every" in need or "jitter" in need else ():
                if self.chance(0.4):
                    need[key] = self.dice.choice(inner)
        if "watchdog" in model and self.chance(0.4):
            model["watchdog"]["fed_by"] = self.dice.choice(inner)
        return model

    def counting(self, unit, known):
        """A unit that counts events in place of time."""
        for key in ("takes", "busy", "depth"):
            unit.pop(key, None)
        unit["counts"] = {"n": self.one(1, 2, 2, 3, 5, 9), "of": self.dice.choice(known)}
        if self.chance(0.5):
            unit["repeats"] = True
            if self.chance(0.6):
                unit.pop("on", None)
                unit["primed"] = True
        elif self.chance(0.3):
            unit["busy"] = "restart"
        if self.chance(0.25):
            unit["cancelled_by"] = self.some(known, 2)

    def more(self, name, isr, flags):
        """What a routine does each n-th time, and within it; the events that this makes."""
        costs = isr["cost"].values() if isinstance(isr["cost"], dict) else [isr["cost"]]
        least = min(cost[0] if isinstance(cost, list) else cost for cost in costs)
        found = []
        if self.chance(0.6):
            isr["nth"] = {"n": self.one(1, 2, 2, 3, 4, 7, 16)}
            if self.chance(0.8):
                isr["nth"]["cost"] = self.span(40)
            if self.chance(0.4):
                isr["nth"]["first"] = self.one(1, 2, isr["nth"]["n"], 20)
            if flags and self.chance(0.5):
                isr["nth"]["sets"] = self.some(flags, 2)
            found.append(f"isr.{name}.nth")
        for moment in self.dice.sample(["a", "b", "c"], self.one(0, 0, 1, 1, 2, 3)):
            most = Time(self.one(0, least, self.dice.randint(0, least)))
            place = [Time(self.one(0, most, self.dice.randint(0, most))), most] if self.chance(0.4) else most
            isr.setdefault("moments", {})[moment] = place
            found.append(f"isr.{name}.{moment}")
        return found


class Meeting(Attack):
    """Steps of a model that poll several flags: any of them, or all."""

    def meeting(self, model):
        """The model with such steps."""
        self.levels = model["core"].get("levels", 1)
        for name, buffer in model.get("buffer", {}).items():
            if buffer["depth"] > 1:
                model["need"][f"f{name}"] = {"of": f"buffer.{name}", "fill": self.dice.randint(1, buffer["depth"] - 1)}
        steps, setters = model.get("step", {}), [*model["isr"].values(), *model.get("step", {}).values()]
        flags = flags_of(model)
        for step in steps.values():
            if "drains" not in step and self.chance(0.3):
                step["then"] = [self.part(step, list(model["unit"]), flags) for _ in range(self.one(1, 1, 2, 3))]
        if steps and self.chance(0.3):
            cost = self.span(400, NS)
            model["startup"] = {"cost": cost}
            if self.chance(0.5):
                model["startup"]["guard"] = self.guard(cost)
            if flags and self.chance(0.3):
                model["startup"]["sets"] = self.some(flags, 2)
        if not flags:
            return model
        if self.chance(0.6):  # one more, that something sets
            flags.append("mm")
            if self.chance(0.4):
                event = f"source.{self.dice.choice(list(model['source']))}"
                model.setdefault("flag", {})["mm"] = {"set_by": [event]}
            else:
                setter = self.dice.choice(setters)
                setter["sets"] = ["mm", *as_names(setter.get("sets", []))]
        polling = [step for step in steps.values() if isinstance(step.get("polls"), str) and "drains" not in step]
        for step in [*polling, *(self.dice.choice(list(steps.values())) for _ in range(self.one(0, 0, 1)))]:
            if self.chance(0.8) and "drains" not in step:
                known = as_names(step.get("polls", []))
                several = list(dict.fromkeys([*known, *(self.dice.choice(flags) for _ in range(self.one(1, 1, 2)))]))
                step["polls"] = several if self.chance(0.5) else {"all": several}
        return model

    def part(self, step, units, flags):
        """A part of a step."""
        part = {"cost": self.span(20)} if self.chance(0.7) else {"pause": Time(self.dice.randint(1, 50) * NS)}
        if "puts" in step and self.chance(0.6):
            part["puts"] = step["puts"] | {"items": self.one(1, 1, [0, 2], 3)}
        waits = self.dice.choice(
            [*([{"next": f"unit.{unit}"} for unit in units] * 3), *(f"unit.{u}" for u in units), *flags, ""]
        )
        if waits:
            part["waits"] = waits
            if self.chance(0.6):
                part["at_most"] = Time(self.one(NS, 9 * NS, 60 * NS, 400 * NS))
        if "cost" in part and self.chance(0.2):
            part["guard"] = self.guard(part["cost"])
        return part


class Spilling(Attack):
    """A model of another attack in which something hangs on the losses of its buffers."""

    def spilling(self, model):
        """That model; where it has no buffer, as it was."""
        lost = [f"buffer.{name}.lost" for name in model.get("buffer", {})]
        if not lost:
            return model
        self.levels = model["core"].get("levels", 1)
        flags, event = flags_of(model), self.dice.choice(lost)
        if self.chance(0.7):
            model["isr"]["ov"] = {"on": event, "level": self.dice.randrange(self.levels), "cost": self.span(30)}
            if self.chance(0.3):
                model["isr"]["ov"]["on"] = [event, f"source.{self.dice.choice(list(model['source']))}"]
            if flags and self.chance(0.4):
                model["isr"]["ov"]["sets"] = self.some(flags, 2)
            model["need"]["ov"] = {
                "from": event, "to": f"isr.ov.{self.one('start', 'end')}", "within": self.limit()
            }  # fmt: skip
        for isr in model["isr"].values():
            asked = str(isr["on"]).startswith("buffer.") and isinstance(isr["on"], str)
            if asked and "puts" not in isr and not isinstance(isr.get("cost"), dict) and self.chance(0.3):
                isr["on"] = [isr["on"], self.dice.choice(lost)]
        if flags and self.chance(0.5):
            model.setdefault("flag", {}).setdefault(self.dice.choice(flags), {"set_by": self.dice.choice(lost)})
        for unit in model.get("unit", {}).values():
            if unit.get("on") and self.chance(0.3):
                unit["on"] = self.dice.choice(lost)
        for buffer in model["buffer"].values():
            if isinstance(buffer.get("fed_by"), str) and self.chance(0.15):
                buffer["fed_by"] = self.dice.choice(lost)
        if self.chance(0.3):
            model["unit"] = model.get("unit", {})
            model["unit"]["ovc"] = {"on": event, "counts": {"n": self.one(1, 2, 5), "of": event}, "busy": "restart"}
        return model


class Ticking(Attack):
    """A model of another attack, steps of which are due with each so many-th of an event."""

    def ticking(self, model):
        """That model."""
        known = [f"source.{name}" for name in model["source"]]
        known += [f"isr.{name}.{self.one('start', 'end')}" for name in model["isr"]]
        known += [f"unit.{name}" for name in model.get("unit", {})]
        known += [f"step.{name}.{self.one('start', 'end')}" for name in model.get("step", {})]
        for step in model.get("step", {}).values():
            if "polls" not in step and "drains" not in step and self.chance(0.5):
                step["every"] = {"n": self.one(1, 2, 2, 3, 5, 20), "of": self.dice.choice(known)}
                step["rearm"] = self.one("grid", "grid", "skip", "now")
        for isr in model["isr"].values():
            if not {"drains", "nth"} & isr.keys() and isr.get("serves") != "all" and self.chance(0.3):
                isr["pause"] = self.span(60)
                if isr.get("pending", 1) == 1 and self.chance(0.6):
                    isr["clears_pending"] = True
        for source in model["source"].values():
            burst = source.get("burst", {})
            lasts, longest = (burst.get("count", 1) - 1) * burst.get("spaced", 0), burst.get("every", 0) // 2 - 1
            if burst and lasts <= longest and self.chance(0.6):
                burst["within"] = Time(max(1, self.one(lasts, longest, self.dice.randint(lasts, longest))))
        return model


class Deep(Attack):
    """A model of another attack, whose steps sleep as deep as they like."""

    def deep(self, model):
        """That model."""
        model["sleep"] = {name: {"wake": self.span(60)} for name in ("shallow", "deep")}
        for step in model.get("step", {}).values():
            if step.get("sleep") is True and self.chance(0.7):
                step["sleep"] = self.one("shallow", "deep")
            elif isinstance(step.get("sleep"), dict) and self.chance(0.7):
                step["sleep"]["depth"] = self.one("shallow", "deep")
        return model


class Standing(Attack):
    """A model of another attack, some things of which are counted by a clock that stands still in one depth."""

    def standing(self, model):
        """That model."""
        model["clock"] = {"slow": {"rate": "1 GHz"}}
        stops = self.one(["clock.slow"], ["core"], ["clock.slow", "core"])
        model["sleep"] = {"still": {"wake": self.span(60), "stops": stops}}
        counted = [(table, key) for table in model["source"].values() for key in ("every", "gap") if key in table]
        counted += [(table, "takes") for table in model.get("unit", {}).values() if "takes" in table]
        for table, key in counted:
            if self.chance(0.5):
                table[key] = self.cycles(table[key])
        units = [f"unit.{name}" for name in model.get("unit", {})]
        for step in model.get("step", {}).values():
            if step.get("sleep") and self.chance(0.8):
                given = step["sleep"] if isinstance(step["sleep"], dict) else {}
                step["sleep"] = {"unless": given.get("unless", []), "depth": "still"}
                if units and self.chance(0.6):
                    step["sleep"]["plain_if"] = units if self.chance(0.5) else self.dice.choice(units)
            if isinstance(step.get("sleep"), dict) and self.chance(0.4):
                step["sleep"]["masked"] = self.span(30)
        return model

    def cycles(self, given):
        """A time, or each end of a range, as cycles of one of the clocks."""
        clock = self.one("slow", "slow", "core")
        ends = [f"{Decimal(each) / NS} cycles@{clock}" for each in (given if isinstance(given, list) else [given])]
        return ends if isinstance(given, list) else ends[0]


class Stealing(Attack):
    """A model of another attack, some units of which take the bus from the core."""

    def stealing(self, model):
        """That model."""
        for unit in model.get("unit", {}).values():
            if self.chance(0.7):
                unit["steals"] = self.span(6)
        return model


class Wavering(Attack):
    """A model of another attack, whose core takes interrupts now sooner, now later."""

    def wavering(self, model):
        """That model."""
        for key, most in (("entry", 14), ("exit", 12), ("chain", 9), ("wake", 40)):
            if self.chance(0.7):
                model["core"][key] = self.span(most)
        return model


class Reloading(Attack):
    """A model of another attack, with timers that routines reload from within."""

    def reloading(self, model):
        """That model."""
        units = model.setdefault("unit", {})
        for number in range(self.one(0, 1, 1, 2)):
            name = f"l{number}"
            units[name] = {"on": f"isr.{name}.{self.one('start', 'end')}", "takes": self.span(90, NS), "primed": True}
            model["isr"][name] = {"on": f"unit.{name}{self.one('', '', '.start')}", "cost": self.span(),
                                  "level": self.dice.randrange(model["core"]["levels"])}  # fmt: skip
            if self.chance(0.3):
                units[name]["busy"] = self.one("drop", "restart", "queue")
        for unit in units.values():
            kind, name, moment = (*str(unit.get("on", "")).split("."), "", "")[:3]
            isr = model["isr"].get(name, {}) if kind == "isr" and moment in ("start", "end") else {}
            cost = isr.get("cost")
            if isr and not isinstance(cost, dict) and self.chance(0.8):
                least = int(cost[0] if isinstance(cost, list) else cost)
                ends = sorted(self.one(0, least, self.dice.randint(0, least)) for _ in range(2))
                isr.setdefault("moments", {})["again"] = [Time(each) for each in ends]
                unit["on"] = f"isr.{name}.again"
        return model


class Emptying(Stocked):
    """A model of another attack, in which steps, or routines, drain their buffers until nothing is in."""

    def emptying(self, model):
        """That model, of steps."""
        for name, step in model.get("step", {}).items():
            if name != "startup":
                self.goes_on(model, step, (0, 300))
        return model

    def draining(self, model, *, small=False):
        """That model, of routines; on a ``small`` board only sources and buffers start them, one of them.

        Pauses of steps take now less, now more.
        """
        for step in model.get("step", {}).values():
            for part in (step, *step.get("then", ())):
                if "pause" in part and self.chance(0.5):
                    part["pause"] = [Time(self.one(0, 1, self.dice.randint(0, int(part["pause"])))), part["pause"]]
        for isr in model["isr"].values():
            if "full" not in isr.get("puts", {}):
                self.goes_on(model, isr, (0, 90))
            drains = isr.get("drains")
            fed = model["buffer"][drains["from"][7:]].get("fed_by") if isinstance(drains, dict) else None
            feeds = fed["event"] if isinstance(fed, dict) else fed
            if isinstance(feeds, str) and "until" in drains and "moments" not in isr and self.chance(0.3):
                alone = small or not isinstance(isr["on"], str) or self.chance(0.5)  # each put starts it
                if not small or feeds.startswith("source."):
                    isr["on"] = feeds if alone else [feeds, isr["on"]]
        return model

    def goes_on(self, model, body, dear):
        """It takes what comes meanwhile, too, if it drains; its items may be ``dear``."""
        drained = body.get("drains")
        named = drained["from"] if isinstance(drained, dict) else drained
        buffer = model.get("buffer", {}).get((named or "").removeprefix("buffer."), {})
        if buffer and buffer.get("full") != "overwrite" and self.chance(0.9):
            body["drains"] = {"from": named, "until": "empty"}
            if self.chance(0.7):  # so that items come while others are copied
                body["each"] = self.one(self.takes(*dear), self.takes(5, 40), Time(0))


class Answering(Stocked):
    """A model of another attack, with transfers of several items, each set going by the routine of the one before."""

    def answering(self, model):
        """That model."""
        begins = [f"source.{name}" for name in model["source"]]
        begins += [f"{kind}.{name}" for kind in ("isr", "step") for name in model.get(kind, {}) if name != "startup"]
        for number in range(self.one(1, 1, 1, 2)):
            name, first = f"x{number}", self.one(*begins)
            puts, asks = (first, first) if first.startswith("source.") else (f"{first}.start", f"{first}.end")
            if self.chance(0.1):
                puts, asks = asks, puts
            asks = [asks, f"isr.{name}.{self.one('end', 'end', 'start')}"]
            if self.chance(0.1):
                asks[self.one(0, 1)] = self.one(*(each for each in begins if each.startswith("source.")))
            many = self.number(1, 9)
            model.setdefault("buffer", {})[name] = {
                "depth": self.one(many, many, self.number(1, 9)), "fed_by": {"event": puts, "items": many}
            }  # fmt: skip
            model.setdefault("unit", {})[name] = {
                "on": list(dict.fromkeys(asks)), "drains": f"buffer.{name}", "takes": self.takes(1, self.one(9, 60, 300))
            }  # fmt: skip
            isr = {
                "on": f"unit.{name}", "cost": self.span(), "level": self.dice.randrange(model["core"].get("levels", 1))
            }  # fmt: skip
            if self.chance(0.3):
                isr["nth"] = {"n": many + 1, "cost": self.span()}
            if self.chance(0.2):
                isr["on"] = [isr["on"], self.one(*(each for each in begins if each.startswith("source.")))]
            model["isr"][name] = isr
            model["need"][f"{name}n"] = {
                "from": self.one(f"unit.{name}.start", puts),
                "to": f"isr.{name}.end",
                "within": self.limit(),
            }
            model["need"][f"{name}b"] = {"of": f"buffer.{name}", "lost": self.one(0, 0, 3)}
        return model


class KeptApart(Attack):
    """A model of another attack, some sources of which are never closer than a gap together."""

    def kept_apart(self, model):
        """That model."""
        loose = [name for name, source in model["source"].items() if "every" not in source]
        for name in loose:
            model["source"][name].get("burst", {}).pop("within", None)
        model["apart"] = {}
        for number in range(self.one(1, 1, 2)):
            members = [name for name in loose if self.chance(0.8)]
            loose = [name for name in loose if name not in members]
            if len(members) > 1:
                gap = Time(self.one(1, NS, self.dice.randint(1, 60) * NS, self.dice.randint(1, 60_000)))
                model["apart"][f"a{number}"] = {"of": [f"source.{name}" for name in members], "gap": gap}
        return model


class Silent(Attack):
    """A model of another attack, whose units do not always answer."""

    def silent(self, model):
        """That model."""
        for unit in model.get("unit", {}).values():
            if not {"counts", "drains", "depth"} & unit.keys() and unit.get("busy") != "queue" and self.chance(0.6):
                unit["answers"] = f"{self.one(1, 10, 50, 90, 99, 100)} %"
        for step in model.get("step", {}).values():
            for part in (step, *step.get("then", ())):
                if "waits" in part and "at_most" not in part and self.chance(0.7):
                    part["at_most"] = Time(self.dice.randint(1, 80) * NS)
        return model


class Shifting(Attack):
    """A model of another attack, whose guards begin after now less, now more of their bodies."""

    def shifting(self, model):
        """That model, with some more guards."""
        steps = list(model.get("step", {}).values())
        parts = [part for step in steps for part in step.get("then", ())]
        for body in (*model["isr"].values(), *steps, *parts):
            cost = body.get("cost")
            if cost is None or isinstance(cost, dict):
                continue
            most = int(cost[1] if isinstance(cost, list) else cost)
            if "guard" not in body and self.chance(0.4):
                body["guard"] = {"level": self.dice.randrange(model["core"]["levels"]),
                                 "for": self.one("all", Time(self.dice.randint(0, most)))}  # fmt: skip
            guards = body.get("guard", [])
            for guard in guards if isinstance(guards, list) else [guards]:
                long = guard["for"]
                last = most - (0 if long == "all" else int(long[1] if isinstance(long, list) else long))
                if last >= 0 and self.chance(0.8):
                    guard["at"] = sorted(Time(self.one(0, last, self.dice.randint(0, last))) for _ in range(2))
        return model


def flags_of(model):
    """The flags that steps look at."""
    polled = (step.get("polls", []) for step in model.get("step", {}).values())
    named = {flag for each in polled for flag in (each["all"] if isinstance(each, dict) else as_names(each))}
    return sorted(flag for flag in named if not flag.startswith("buffer."))


def as_names(given):
    return [given] if isinstance(given, str) else list(given)


def attack(seed):
    """The model of a seed; of each three one has tokens that go round its loop, and of the others each second buffers."""
    if seed >= SHIFTING:
        return Shifting(seed).shifting(attack(seed - SHIFTING))
    if seed >= ANSWERING:
        return Answering(seed).answering(attack(seed - ANSWERING))
    if seed >= DRAINING:
        return Emptying(seed).draining(attack(seed - DRAINING))
    if seed >= EMPTYING:
        return Emptying(seed).emptying(attack(seed - EMPTYING))
    if seed >= RELOADING:
        return Reloading(seed).reloading(attack(seed - RELOADING))
    if seed >= WAVERING:
        return Wavering(seed).wavering(attack(seed - WAVERING))
    if seed >= STEALING:
        return Stealing(seed).stealing(attack(seed - STEALING))
    if seed >= KEPT_APART:
        return KeptApart(seed).kept_apart(attack(seed - KEPT_APART))
    if seed >= STANDING:
        return Standing(seed).standing(attack(seed - STANDING))
    if seed >= DEEP:
        return Deep(seed).deep(attack(seed - DEEP))
    if seed >= SILENT:
        return Silent(seed).silent(attack(seed - SILENT))
    if seed >= TICKING:
        return Ticking(seed).ticking(attack(seed - TICKING))
    if seed >= SPILLING:
        return Spilling(seed).spilling(attack(seed - SPILLING))
    if seed >= MEETING:
        return Meeting(seed).meeting(attack(seed - MEETING))
    if seed >= INSIDE:
        return Inside(seed).inside(attack(seed - INSIDE))
    if seed >= FULL or (seed >= STOCKED and seed % 3 != 2 and seed % 2):
        return Stocked(seed).model()
    return Woven(seed).model() if seed % 3 == 2 and seed >= WOVEN else Attack(seed).model()


# --- the same model, changed ----------------------------------------------------------------------------------------


def copied(given):
    if isinstance(given, dict):
        return {key: copied(each) for key, each in given.items()}
    return [copied(each) for each in given] if isinstance(given, list) else given


def relaxed(model, dice):
    """(the model with one range wider, one gap smaller or one event more, what was changed); None: nothing to change.

    What is allowed more than before can only make a most-bound larger and a least-bound smaller.
    """
    made, ways = copied(model), []

    def widen(table, key):
        def change():
            given = table[key]
            least, most = given if isinstance(given, list) else (given, given)
            if dice.random() < 0.5:
                least = Time(max(least // 2, NS if key in ("takes", "overhead") else 0))
            else:
                most = Time(most + dice.choice([1, NS, 7 * NS]))
            table[key] = [least, most]

        return change

    def shrink(table, key):
        def change():
            table[key] = Time(table[key] - dice.choice([1, min(NS, table[key] // 2), table[key] // 3]))

        return change

    def more(table, events):
        def change():
            on = table["on"] if isinstance(table["on"], list) else [table["on"]]
            table["on"] = list(dict.fromkeys([*on, dice.choice(events)]))

        return change

    def grow(table, key):
        def change():
            table[key] = Time(table[key] + dice.choice([1, NS, 9 * NS]))

        return change

    # a periodic source beside others is a promise too: it is sure to wake the core
    events = [f"source.{name}" for name, source in made.get("source", {}).items() if "every" not in source]
    for name, source in made.get("source", {}).items():
        if isinstance(source.get("gap"), int) and source["gap"] > 4 and "mean" in source:
            ways.append((f"source.{name}.gap smaller", shrink(source, "gap")))
        if "jitter" in source:
            ways.append((f"source.{name}.jitter larger", grow(source, "jitter")))
    for kind, key in (("unit", "takes"), ("isr", "cost"), ("step", "cost")):
        for name, body in made.get(kind, {}).items():
            ends = body.get(key) if isinstance(body.get(key), list) else [body.get(key)]
            if key in body and any(isinstance(end, str) for end in ends):
                continue  # in cycles
            if key in body and not isinstance(body[key], dict):
                ways.append((f"{kind}.{name}.{key} wider", widen(body, key)))
            elif key in body:
                inner = body[key]
                event = dice.choice(list(inner))
                ways.append((f"{kind}.{name}.{key}.{event} wider", widen(inner, event)))
    if "loop" in made:
        ways.append(("loop.overhead wider", widen(made["loop"], "overhead")))
    for name, body in [*made.get("isr", {}).items(), *made.get("unit", {}).items()]:
        if events and "on" in body and not isinstance(body.get("cost"), dict):
            ways.append((f"{name}.on one more", more(body, events)))
    if not ways:
        return None
    what, change = dice.choice(ways)
    change()
    return (made, what) if made != model else None


def smaller(model):
    """Models that have one thing less than this one, or a rounder number: the next steps of shrinking."""
    for section in [each for each in model if each not in ("core",)]:
        made = copied(model)
        del made[section]
        yield made
        for name in model[section] if section in KINDS else ():
            made = copied(model)
            del made[section][name]
            yield made
    for path, given in _leaves(model, ()):
        for less in _less(given, path):
            made = copied(model)
            table = made
            for part in path[:-1]:
                table = table[part]
            if less is None:
                del table[path[-1]]
            else:
                table[path[-1]] = less
            yield made


def _leaves(given, path):
    items = given.items() if isinstance(given, dict) else enumerate(given) if isinstance(given, list) else ()
    for key, each in items:
        if len(path) + 1 >= 2:
            yield (*path, key), each
        yield from _leaves(each, (*path, key))


def _less(given, path):
    yield None
    if isinstance(given, Time):
        for less in (0, NS, given // NS * NS, given // 2, given // 2 // NS * NS, given - NS, given - 1):
            if 0 <= less < given:
                yield Time(less)
    elif isinstance(given, list):
        yield from given
    elif isinstance(given, bool):
        return
    elif isinstance(given, int) and given > 1:
        yield 1


def shrunk(model, fails, most=400):
    """The smallest model that is found to fail still; ``fails`` takes a model."""
    tried, going = 0, True
    while going:
        going = False
        for made in smaller(model):
            tried += 1
            if tried > most:
                return model
            try:
                still = fails(made)
            except Exception:
                still = False
            if still:
                model, going = made, True
                break
    return model
