"""Random models over the whole language. Every feature of the language extends this file."""

import re

from hypothesis import assume
from hypothesis import strategies as st

from tachys.errors import InputError
from tachys.model.loading import read_model

NS = 1000


def ns(count):
    return f'"{count} ns"'


def span(pair):
    return f"[{ns(pair[0])}, {ns(pair[1])}]"


@st.composite
def guards(draw, cost, levels):
    if not cost or not draw(st.booleans()):
        return ""
    at = draw(st.integers(0, cost))
    length = draw(st.one_of(st.just("all"), st.integers(0, cost - at)))
    shown = '"all"' if length == "all" else ns(length)
    at = 0 if length == "all" else at
    return f"guard = {{ level = {draw(st.integers(0, levels - 1))}, for = {shown}, at = {ns(at)} }}\n"


@st.composite
def costs(draw, most, least=0):
    high = draw(st.integers(least, most))
    return draw(st.integers(least, high)), high


@st.composite
def core(draw, levels):
    entry, leave, chain, wake = (draw(st.sampled_from([0, 1, 3, 8])) for _ in range(4))
    return (
        f'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = {levels}\nentry = {ns(entry)}\nexit = {ns(leave)}\n'
        f"chain = {ns(chain)}\nwake = {ns(wake)}\nnesting = {draw(st.sampled_from(['true', 'true', 'false']))}\n"
        f"late_arrival = {draw(st.sampled_from(['false', 'true']))}\n"
    )


@st.composite
def source(draw, name, shortest=8):
    way = draw(st.sampled_from(["every", "gap", "burst"]))
    text = f"[source.{name}]\n"
    # any, or harmonic and equal ones, that meet again and again
    apart = draw(st.one_of(st.integers(shortest, 160), st.sampled_from([1, 2, 4]).map(lambda many: many * shortest)))
    if way == "every":
        jitter = draw(st.sampled_from([0, 0, draw(st.integers(0, 40))]))
        offset = draw(st.sampled_from(["", "", f"offset = {ns(0)}\n", f"offset = {ns(draw(st.integers(0, 400)))}\n"]))
        return text + f"every = {ns(apart)}\njitter = {ns(jitter)}\n{offset}"
    if way == "gap":
        return text + f"gap = {ns(apart)}\n"
    count, spaced = draw(st.integers(1, 4)), draw(st.integers(2, 30))
    every = (count - 1) * spaced + draw(st.integers(1, 300))
    return text + f"burst = {{ count = {count}, spaced = {ns(spaced)}, every = {ns(every)} }}\n"


@st.composite
def unit(draw, name, events):
    on = draw(st.lists(st.sampled_from(events), min_size=1, max_size=2, unique=True))
    text = f"[unit.{name}]\non = {on}\ntakes = {span(draw(costs(40, 1)))}\n"
    busy = draw(st.sampled_from(["drop", "restart", "queue"]))
    depth = f"depth = {draw(st.integers(1, 3))}\n" if busy == "queue" else ""
    return text + f'busy = "{busy}"\n{depth}primed = {draw(st.sampled_from(["false", "false", "true"]))}\n'


@st.composite
def isr(draw, name, events, levels):
    on = draw(st.lists(st.sampled_from(events), min_size=1, max_size=draw(st.sampled_from([1, 1, 2])), unique=True))
    least, most = draw(costs(12))
    cost = span((least, most))
    if len(on) > 1 and draw(st.booleans()):
        cost = "{ " + ", ".join(f'"{event}" = {span(draw(costs(most, 0)))}' for event in on) + " }"
        guard = ""
    else:
        guard = draw(guards(most, levels))
    sets = draw(st.sampled_from([[], ["f0"], ["f1"], ["f0", "f1"]]))
    return (
        f"[isr.{name}]\non = {on}\nlevel = {draw(st.integers(0, levels - 1))}\norder = {draw(st.integers(0, 1))}\n"
        f'cost = {cost}\npending = {draw(st.integers(1, 3))}\nserves = "{draw(st.sampled_from(["one", "one", "all"]))}"\n'
        f"sets = {sets}\n{guard}"
    )


POLLED = ('"f0"', '"f1"', '["f0", "f1"]', '{ all = ["f1", "f0"] }')


@st.composite
def step(draw, name, units, levels):
    least, most = draw(costs(20))
    text = f"[step.{name}]\ncost = [{ns(least)}, {ns(most)}]\n{draw(guards(most, levels))}"
    gate = draw(st.sampled_from(["", "polls", "every", "every", "both"]))
    if gate in ("polls", "both"):
        text += f"polls = {draw(st.sampled_from(POLLED))}\n"
    if gate in ("every", "both"):
        text += f"every = {ns(draw(st.integers(20, 900)))}\n"
        text += f'rearm = "{draw(st.sampled_from(["grid", "skip", "now"]))}"\n'
    waits = draw(st.sampled_from(["", "", "", "unit", "flag"]))
    if waits == "flag" or (waits == "unit" and units):
        what = f"unit.{draw(st.sampled_from(units))}" if waits == "unit" else f"f{draw(st.integers(0, 1))}"
        text += f'waits = "{what}"\n'
        text += draw(st.sampled_from(["", *[f"at_most = {ns(count)}\n" for count in (0 + 1, 9, 60)]]))
    text += draw(st.sampled_from(["", "", f"pause = {ns(draw(st.integers(1, 50)))}\n"]))
    text += draw(st.sampled_from(["", "", "", 'sets = "f1"\n']))
    return text + draw(st.sampled_from(["", "", "", "sleep = true\n", 'sleep = { unless = "f0" }\n']))


@st.composite
def models(draw):
    """The text of a small model of the whole language, at loads around and beyond full."""
    levels = draw(st.integers(1, 3))
    text = draw(core(levels))
    shortest = draw(st.sampled_from([8, 30, 100]))
    sources = [f"s{i}" for i in range(draw(st.integers(1, 4)))]
    units = [f"u{i}" for i in range(draw(st.sampled_from([0, 0, 1, 2])))]
    isrs = [f"r{i}" for i in range(draw(st.integers(1, 4)))]
    steps = [f"p{i}" for i in range(draw(st.sampled_from([0, 0, 1, 2, 3])))]
    firm = [f"source.{name}" for name in sources]
    ends = [f"unit.{name}" for name in units]
    raised = [f"{kind}.{name}.{moment}" for kind, names in (("isr", isrs), ("step", steps), ("unit", units))
              for name in names for moment in ("start", "end")]  # fmt: skip
    for name in sources:
        text += draw(source(name, shortest))
    tangled = draw(st.sampled_from([False, False, True]))
    for name in units:
        own = [event for event in raised if event.startswith(("isr.", "step."))]
        before = [f"unit.{other}{moment}" for other in units[: units.index(name)] for moment in ("", ".start")]
        text += draw(unit(name, firm + before + (own if tangled else [e for e in own if e.startswith("step.")])))
    for number, name in enumerate(isrs):
        before = [f"isr.{other}.end" for other in isrs[:number]] + [f"{end}.start" for end in ends]
        text += draw(isr(name, firm + ends + before + ([e for e in raised if "step." in e] if tangled else []), levels))
    if draw(st.sampled_from([False, False, True])):
        text += f'[flag.f0]\nset_by = "{draw(st.sampled_from(firm + ends))}"\n'
    if steps:
        text += f"[loop]\noverhead = {span(draw(costs(6, 1)))}\n"
        for name in steps:
            text += draw(step(name, units, levels))
    return text


@st.composite
def firm_models(draw):
    """As :func:`models`, without those that the loader refuses: chains that can take no time."""
    text = draw(models())
    assume(loads(text))
    return text


def loads(text):
    """Whether a model is one."""
    try:
        return bool(read_model(text, "model.toml"))
    except InputError as error:
        if "no time" not in str(error):
            raise
        return False


@st.composite
def lone_models(draw):
    """Models of what the stand-in for the board knows: a source of its own for every routine, steps with every act."""
    levels = draw(st.integers(1, 3))
    text = draw(core(levels))
    for i in range(draw(st.integers(1, 5))):
        cost = draw(costs(12))
        text += draw(source(f"s{i}"))
        text += (
            f'[isr.r{i}]\non = "source.s{i}"\nlevel = {draw(st.integers(0, levels - 1))}\n'
            f"order = {draw(st.integers(0, 1))}\ncost = {span(cost)}\npending = {draw(st.integers(1, 3))}\n"
            f'serves = "{draw(st.sampled_from(["one", "all"]))}"\nsets = ["f{draw(st.integers(0, 1))}"]\n'
            f"{draw(guards(cost[1], levels))}"
        )
    if draw(st.sampled_from([False, False, True])):
        text += '[flag.f0]\nset_by = "source.s0"\n'
    if draw(st.booleans()):
        text += f"[loop]\noverhead = {ns(draw(st.integers(1, 6)))}\n"
        for i in range(draw(st.integers(0, 3))):
            cost = draw(costs(20))
            rearm = draw(st.sampled_from(["grid", "skip", "now"]))
            gate = draw(
                st.sampled_from(
                    ["", *(f"polls = {each}\n" for each in POLLED), f'every = {ns(40 + 30 * i)}\nrearm = "{rearm}"\n']
                )
            )
            text += f"[step.p{i}]\ncost = {span(cost)}\n{gate}{draw(guards(cost[1], levels))}"
            text += draw(st.sampled_from(["", "", "sleep = true\n", 'sleep = { unless = "f0" }\n']))
            text += draw(st.sampled_from(["", "", f'waits = "f{i % 2}"\nat_most = {ns(15 + 7 * i)}\n']))
            text += draw(st.sampled_from(["", "", f"pause = {ns(draw(st.integers(1, 30)))}\n"]))
            text += draw(st.sampled_from(["", "", "", 'sets = "f0"\n', 'sets = ["f0", "f1"]\n']))
    return text


@st.composite
def needy_models(draw):
    """Models of the whole language with needs between whatever events there are; their limits are never in the way."""
    text = draw(firm_models())
    names = {kind: re.findall(rf"^\[{kind}\.(\w+)\]", text, re.MULTILINE) for kind in ("source", "unit", "isr", "step")}
    events = [f"source.{name}" for name in names["source"]]
    events += [f"{kind}.{name}.{moment}" for kind in ("unit", "isr", "step") for name in names[kind]
               for moment in ("start", "end")]  # fmt: skip
    for number in range(draw(st.integers(1, 4))):
        kind = draw(
            st.sampled_from(["within", "within", "within", "age", "every", "jitter", "load", "long load", "lost"])
        )
        text += f"[need.n{number}]\n"
        if kind in ("within", "age"):
            begins, ends = draw(st.sampled_from(events)), draw(st.sampled_from(events))
            age = "age = true\n" if kind == "age" else ""
            text += f'from = "{begins}"\nto = "{ends}"\nwithin = {ns(draw(st.integers(1, 600)))}\n{age}'
        elif kind == "every":
            text += f'of = "{draw(st.sampled_from(events))}"\nevery = {ns(draw(st.integers(20, 400)))}\n'
            text += f'give_or_take = "{draw(st.integers(1, 90))} %"\n'
        elif kind == "jitter":
            text += f'of = "{draw(st.sampled_from(events))}"\njitter = {ns(draw(st.integers(1, 300)))}\n'
        elif kind == "lost":
            bodies = [f"{kind}.{name}" for kind in ("source", "unit", "isr") for name in names[kind]]
            text += f'of = "{draw(st.sampled_from(bodies))}"\nlost = {draw(st.sampled_from([0, 0, 3]))}\n'
        elif kind == "long load":
            text += f'load = "{draw(st.integers(1, 100))} %"\n'
        else:
            text += f'load = "{draw(st.integers(5, 95))} %"\nover = {ns(draw(st.integers(30, 900)))}\n'
    if draw(st.booleans()):
        text += f'[watchdog]\nfed_by = "{draw(st.sampled_from(events))}"\ntimeout = {ns(draw(st.integers(50, 1500)))}\n'
        text += draw(st.sampled_from(["", 'not_before = "30 ns"\n']))
    return text
