"""Every construct of the language refuses what it cannot mean, with a line and a mend; and the house keeps its order."""

import ast
import importlib
import subprocess
import sys
from graphlib import TopologicalSorter
from pathlib import Path

import pytest

import tachys
from tachys.errors import InputError
from tachys.model.layers import laid_over, layers_of
from tachys.model.loading import load_model, read_model

BASE = """tachys = 1
[core]
clock = "48 MHz"
levels = 2
entry = "1 us"
exit = "1 us"
[source.s]
gap = "1 ms"
[unit.u]
on = "source.s"
takes = "10 us"
[isr.r]
on = "unit.u"
cost = "5 us"
sets = "f"
[loop]
overhead = "2 us"
[step.p]
polls = "f"
cost = "9 us"
[need.n]
from = "source.s"
to = "step.p.end"
within = "1 ms"
"""


def faults(text):
    try:
        read_model(text, "m.toml")
    except InputError as error:
        return [str(problem) for problem in error.problems]
    return []


def test_the_base_of_these_tests_is_sound():
    assert faults(BASE) == []


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        # units
        ('takes = "10 us"', 'takes = "0 us"', "m.toml:11: unit.u.takes: is 0; what takes no time is no unit"),
        ('takes = "10 us"', 'takes = "10 us"\nbusy = "wait"', "unit.u.busy: 'wait' is not known here; one of"),
        ('takes = "10 us"', 'takes = "10 us"\ndepth = 2', "goes with a queue, not with drop"),
        ('takes = "10 us"', 'takes = "10 us"\nbusy = "queue"\ndepth = 0', "m.toml:13: unit.u.depth"),
        ('[unit.u]\non = "source.s"', "[unit.u]", "nothing ever starts it"),
        ('on = "source.s"\ntakes', 'on = "source.t"\ntakes', 'names no event; did you mean "source.s"?'),
        # routines
        ('on = "unit.u"', "on = []", "names no event; write for instance"),
        ('on = "unit.u"', 'on = "unit.v"', 'm.toml:13: isr.r.on: "unit.v" names no event; did you mean "unit.u"?'),
        ('cost = "5 us"', 'cost = { "source.s" = "5 us" }', '"source.s" names no event of its on'),
        ('cost = "5 us"', 'cost = { }', '"unit.u" has no cost; a table of costs names every event of on'),
        ('cost = "5 us"', 'cost = ["5 us"]', "a range has two ends, not 1"),
        ('cost = "5 us"', "cost = 5", 'm.toml:14: isr.r.cost: 5 has no unit'),
        ('cost = "5 us"', 'cost = "5 us"\nserves = "some"', "isr.r.serves"),
        ('cost = "5 us"', 'cost = "5 us"\npending = 0', "isr.r.pending"),
        ('cost = "5 us"', 'cost = "5 us"\nguard = { level = 2, for = "1 us" }', "levels run from 0 to 1"),
        # the loop
        ('overhead = "2 us"', 'overhead = "0 us"', "m.toml:17: loop.overhead: is 0"),
        ('overhead = "2 us"', 'overhead = "2 us"\norder = ["p", "q"]', '"q" names no step'),
        ('overhead = "2 us"', 'overhead = "2 us"\norder = []', 'step "p" stands in it 0 times'),
        ('polls = "f"\ncost = "9 us"', 'polls = "f"', "the step does nothing; give it a cost"),
        ('cost = "9 us"', 'cost = "9 us"\nwaits = "unit.x"', 'names no unit; did you mean "unit.u"?'),
        ('cost = "9 us"', 'cost = "9 us"\nat_most = "1 ms"', "goes with waits; remove it"),
        ('cost = "9 us"', 'cost = "9 us"\nevery = "0 s"', "it must be more than 0"),
        ('cost = "9 us"', 'cost = "9 us"\nrearm = "never"', "step.p.rearm"),
        ('[loop]\noverhead = "2 us"\n', "", "there are steps but no [loop]"),
        # needs and the watchdog
        ('within = "1 ms"', 'within = "1 ms"\nlost = 0', "m.toml:21: need.n: does not say what must hold"),
        ('within = "1 ms"', 'within = "1 ms"\nage = 1', "need.n.age"),
        ('to = "step.p.end"', 'to = "step.q.end"', 'names no event; did you mean "step.p.end"?'),
        ("[need.n]", '[need.l]\nof = "unit.x"\nlost = 0\n[need.n]', "names no source, unit, routine, flag or buffer"),
        ("[need.n]", '[need.l]\nof = "flag.g"\nlost = 0\n[need.n]', 'did you mean "flag.f"?'),
        ("[need.n]", '[need.l]\nload = "120 %"\n[need.n]', "is more than 100 %"),
        ("[need.n]", '[need.l]\nof = "step.p.start"\nevery = "1 ms"\n[need.n]', "does not say what must hold"),
        ("[need.n]", '[watchdog]\nfed_by = "step.p.edn"\ntimeout = "1 s"\n[need.n]', 'did you mean "step.p.end"?'),
        ("[need.n]", '[watchdog]\nfed_by = "step.p.end"\ntimeout = "0 s"\n[need.n]', "it must be more than 0"),
        # sources
        ('gap = "1 ms"', 'burst = { count = 5, spaced = "1 ms", every = "4 ms" }', "a burst lasts until the next one begins"),
        ('gap = "1 ms"', 'gap = "1 ms"\njitter = "1 us"', "goes with every or timer, not with gap"),
        ('gap = "1 ms"', 'gap = "1 ms"\nmean = "0.5 ms"', "is shorter than the gap"),
        ('gap = "1 ms"', 'gap = "1 ms"\nevery = "1 ms"', "a source comes in one way"),
        # probes, states, names
        ("[need.n]", '[probe.D0]\nshows = "unit.u.end"\n[need.n]', "happens at an instant, which a level cannot show"),
        ("[need.n]", '[probe.D0]\ncodes = { x = "isr.r" }\n[need.n]', '"x" is no bus value'),
        ("[need.n]", '[probe.D0]\nshows = "isr.r"\ncodes = { 1 = "isr.r" }\n[need.n]', "a probe shows one thing"),
        ("[need.n]", '[sleep.deep]\nwake = "1 us"\ncurrent = "3 mW"\n[need.n]', 'unknown unit "mW"'),
        ("[need.n]", '[state.rest]\ncurrent = "3 mA"\n[need.n]', "not known here any more"),
        ("[step.p]", '[step."a b"]\ncost = "1 us"\n[step.p]', "this name cannot be used"),
    ],
)  # fmt: skip
def test_what_a_construct_cannot_mean_is_told(old, new, told):
    assert old in BASE
    found = faults(BASE.replace(old, new))
    assert any(told in fault for fault in found), found
    assert all(fault.startswith("m.toml") for fault in found)


def test_all_faults_of_all_constructs_come_in_one_run():
    text = (
        BASE.replace('"10 us"', '"0 us"')
        .replace('"5 us"', '"5 uz"')
        .replace('polls = "f"', 'polls = "g"\nwaits = "unit.w"')
    )
    text = text.replace("step.p.end", "step.p.edn")
    lines = sorted(int(fault.split(":")[1]) for fault in faults(text))
    assert lines == [11, 14, 20, 24]


def test_flags_without_a_partner_are_warned_of_with_the_nearest_name():
    remarks = read_model(BASE.replace('polls = "f"', 'polls = "ff"'), "m.toml").remarks
    assert [(remark.code, remark.place.line) for remark in remarks] == [
        ("flag-never-polled", 15),
        ("flag-never-set", 19),
    ]
    assert all("did you mean" in remark.mend for remark in remarks)


def test_variants_lay_tables_over_and_take_away():
    raw = {
        "source": {"s": {"gap": "1 ms", "mean": "2 ms"}},
        "core": {"nesting": True},
        "variant": {
            "v": {"source": {"s": {"every": "2 ms", "mean": False}}, "core": {"nesting": False}, "isr": {"r": False}}
        },
        "isr": {"r": {}, "q": {}},
    }
    layers = layers_of(raw, ["v"], None, (), "m.toml")
    merged = laid_over(raw, layers)
    assert merged == {"source": {"s": {"every": "2 ms"}}, "core": {"nesting": False}, "isr": {"q": {}}}
    assert raw["source"]["s"]["gap"] == "1 ms"
    assert layers[0].touches(("source", "s", "every"))
    assert not layers[0].touches(("isr", "q", "cost"))
    assert list(layers[0].taken_away()) == [("isr", "r")]


def test_a_model_file_is_read_from_disk(tmp_path):
    (tmp_path / "m.toml").write_text(BASE + '[variant.fast]\ncore.clock = "96 MHz"\n')
    assert load_model(tmp_path / "m.toml", "fast").core.clock.hertz == 96 * 10**6
    assert load_model(str(tmp_path / "m.toml")).core.clock.hertz == 48 * 10**6


# --- the house -------------------------------------------------------------------------------------------------------

SOURCE = Path(tachys.__file__).parent
FLOORS = {"errors": 0, "spreading": 1, "foreign": 0, "measures": 0, "outputs": 0, "stretches": 0, "frames": 1, "files": 1, "words": 1,
          "figures": 2, "glossary": 1,
          "plain": 2, "dividers": 2, "model": 3, "needs": 3, "marks": 6, "demo": 6, "examples": 6, "worstcase": 4, "capture": 4, "simulation": 5,
          "checking": 5, "trying": 6, "drawing": 6, "api": 7, "energy": 7, "warming": 7, "report": 7, "compiled": 0, "compiling": 0, "native": 0, "cli": 8}  # fmt: skip


def module_of(path):
    """The name of the module in a file."""
    return ".".join(["tachys", *path.relative_to(SOURCE).with_suffix("").parts]).removesuffix(".__init__")


def imports_of(path):
    """The names of the modules that a file imports, at its head or in a function, those for types included."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.update(f"{node.module}.{alias.name}" for alias in node.names)
            found.add(node.module)
    return found


def test_no_import_goes_round():
    """Not even one for types, nor one inside a function."""
    paths = {module_of(path): path for path in SOURCE.rglob("*.py")}
    graph = {name: (imports_of(path) & paths.keys()) - {name, "tachys"} for name, path in paths.items()}
    assert list(TopologicalSorter(graph).static_order())


def test_every_file_stands_on_a_floor():
    apart = {"__init__", "__main__", "entry"}
    assert {
        path.stem for path in SOURCE.iterdir() if path.suffix == ".py" or (path / "__init__.py").exists()
    } - apart == set(FLOORS)


@pytest.mark.parametrize("floor", FLOORS)
def test_imports_run_one_way(floor):
    place = SOURCE / floor
    files = place.rglob("*.py") if place.is_dir() else [place.with_suffix(".py")]
    for path in files:
        for name in imports_of(path):
            parts = name.split(".")
            if parts[0] == "tachys" and len(parts) > 1 and parts[1] in FLOORS:
                assert FLOORS[parts[1]] <= FLOORS[floor], f"{path} imports {name}"
            if floor != "cli":
                assert parts[0] not in ("click", "rich"), f"{path} imports {name}"


def test_nothing_below_the_commands_prints_or_reads_the_environment():
    for path in SOURCE.rglob("*.py"):
        if "cli" in path.parts or path.name == "__main__.py":
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            assert not (isinstance(node, ast.Call) and getattr(node.func, "id", "") == "print"), path
            assert not (isinstance(node, ast.Attribute) and node.attr in ("environ", "getenv")), path


@pytest.mark.parametrize("command", ["--help", "bounds", "dividers"])
def test_light_commands_load_nothing_heavy(command, tmp_path):
    (tmp_path / "m.toml").write_text(BASE)
    code = (
        f"import sys; sys.argv = ['tachys', {command!r}] + ([] if {command!r} == '--help' else ['m.toml'])\n"
        "from tachys.cli.main import main\n"
        "try:\n    main()\nexcept SystemExit:\n    pass\n"
        "heavy = {'numba', 'scipy', 'pandas', 'matplotlib', 'pyarrow', 'zstandard'} & set(sys.modules)\n"
        "sys.exit(f'loaded {heavy}' if heavy else 0)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=tmp_path)
    assert (done.returncode, done.stderr) == (0, "")


def test_the_public_names_are_there():
    assert len(tachys.__all__) == 15
    for name in tachys.__all__:
        assert callable(getattr(tachys, name))
    with pytest.raises(AttributeError):
        tachys.nothing  # noqa: B018
    for path in SOURCE.rglob("*.py"):
        if path.name not in ("__main__.py",):
            name = ".".join(["tachys", *path.relative_to(SOURCE).with_suffix("").parts]).removesuffix(".__init__")
            assert importlib.import_module(name).__doc__, name
