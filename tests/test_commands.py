"""The newer commands as a reader meets them: what they print on the example, and how they refuse what is wrong."""

import csv
import io
import json
import random

import pytest

from calling import tachys

MODELS = {
    "late.toml": 'tachys = 1\n[core]\nclock = "1 MHz"\nlevels = 2\nentry = "1 us"\nexit = "1 us"\n'
    '[source.a]\nevery = "1 ms"\n[source.b]\nevery = "700 us"\n[isr.a]\non = "source.a"\nlevel = 1\ncost = "20 us"\n'
    '[isr.b]\non = "source.b"\nlevel = 0\ncost = "300 us"\n[need.n]\nfrom = "source.a"\nto = "isr.a.end"\n'
    'within = "100 us"\n[need.kept]\nof = "isr.a"\nlost = 0\n[need.busy]\nload = "60 %"\nover = "2 ms"\n',
    "flagless.toml": 'tachys = 1\n[core]\nclock = "1 MHz"\nentry = "1 us"\nexit = "1 us"\n[source.a]\nevery = "1 ms"\n'
    '[isr.a]\non = "source.a"\ncost = "20 us"\nsets = "redy"\n[loop]\noverhead = "1 us"\n[step.s]\npolls = "ready"\n'
    'cost = "2 us"\n',
}


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    folder = tmp_path_factory.mktemp("commands")
    for name, text in MODELS.items():
        (folder / name).write_text(text)
    assert tachys(folder, "demo", ".").returncode == 0
    tachys(folder, "simulate", "late.toml", "--for", "1 ms")  # may have to compile the engine first, and says so
    return folder


def table_of(text):
    return list(csv.DictReader(io.StringIO(text)))


# --- simulate ----------------------------------------------------------------------------------------------------


def test_simulate_tells_what_was_seen_beside_the_bounds(place):
    done = tachys(place, "simulate", "row_unit.toml", "--for", "300 ms")
    assert (done.returncode, done.stderr) == (0, "")
    assert max(map(len, done.stdout.splitlines())) <= 100
    for words in ("Routines, latency", "Loop: a pass", "on paper", "asleep"):
        assert words in done.stdout
    wheel = next(line.split() for line in done.stdout.splitlines() if line.startswith("wheel"))
    assert wheel[-1] == "0"
    assert "22.34" in wheel


def test_simulate_as_data_says_what_the_tables_say(place):
    arguments = ("simulate", "row_unit.toml", "--for", "300 ms", "--seed", "4")
    data = json.loads(tachys(place, *arguments, "--format", "json").stdout)
    assert data["format"] == "tachys.simulation/1"
    assert data["length"] == pytest.approx(0.3)
    latency = data["isrs"]["wheel"]["latency"]
    assert latency["least"] <= latency["median"] <= latency["p99"] <= latency["most"]
    assert sum(data["load"]["shares"].values()) == pytest.approx(1)
    assert data["needs"]["release"]["misses"] == 0
    rows = table_of(tachys(place, *arguments, "--format", "csv").stdout)
    row = next(row for row in rows if (row["name"], row["quantity"]) == ("isr.wheel", "latency"))
    assert float(row["most"]) == latency["most"]
    assert int(row["count"]) == latency["count"]
    assert {row["name"] for row in rows} >= {"flag.frame_ready", "loop", "step.panel"}


def test_simulate_ends_with_one_where_a_need_is_broken(place):
    done = tachys(place, "simulate", "late.toml", "--for", "20 ms", "--bodies", "most", "--phases", "together")
    assert done.returncode == 1
    assert "n: late, " in done.stdout
    data = json.loads(tachys(place, "simulate", "late.toml", "--for", "20 ms", "--format", "json").stdout)
    assert data["needs"]["n"]["verdict"] == "missed"
    assert data["needs"]["n"]["first"][0]["value"] > 100e-6
    assert 0 < data["needs"]["busy"]["value"] <= 1
    assert data["needs"]["kept"]["value"] == 0


def test_runs_with_other_seeds_are_pooled(place):
    data = json.loads(tachys(place, "simulate", "late.toml", "--for", "5 ms", "--runs", "5", "--format", "json").stdout)
    assert (data["runs"], data["complete"]) == (5, True)
    assert data["length"] == pytest.approx(25e-3)
    assert {miss["run"] for miss in data["needs"]["n"]["first"]} - {0}


@pytest.mark.parametrize("form", ["vcd", "csv", "parquet"])
def test_a_timeline_is_written_and_checked_again(place, form):
    name = f"timeline.{form}"
    done = tachys(place, "simulate", "row_unit.toml", "--for", "80 ms", "--probes", "-o", name)
    assert f"Wrote {name}" in done.stdout
    data = json.loads(tachys(place, "check", "row_unit.toml", name, "--format", "json").stdout)
    assert data["needs"]["release"]["verdict"] == "met"
    assert data["findings"] == []


def test_the_worst_run_is_searched_and_written(place):
    done = tachys(place, "simulate", "late.toml", "--worst", "a", "--format", "json")
    data = json.loads(done.stdout)
    assert data["figure"] == "a"
    assert data["seen"] == pytest.approx(data["bound"])
    told = tachys(place, "simulate", "late.toml", "--worst", "isr.a.response", "-o", "worst.vcd").stdout
    assert "100.0 % of it" in told
    assert (place / "worst.vcd").read_text().startswith("$version")


# --- bounds ------------------------------------------------------------------------------------------------------


def test_bounds_shows_a_table_for_every_kind_of_thing(place):
    done = tachys(place, "bounds", "row_unit.toml")
    assert max(map(len, done.stdout.splitlines())) <= 100
    for words in ("Needs, least room first", "Interrupt routines", "Loop: a pass takes", "Flags", "Busiest windows"):
        assert words in done.stdout
    rows = table_of(tachys(place, "bounds", "row_unit.toml", "--format", "csv").stdout)
    assert {"isr.wheel", "step.log", "flag.frame_ready", "loop", "load", "need.release"} <= {r["name"] for r in rows}


@pytest.mark.parametrize("name", ["wheel", "isr.wheel", "step.log", "log", "flag.frame_ready", "loop", "need.release"])
def test_why_takes_anything_apart_and_the_parts_add_up(place, name):
    data = json.loads(tachys(place, "bounds", "row_unit.toml", "--why", name, "--format", "json").stdout)
    assert data.pop("format") == "tachys.why/1"
    for figures in data.values():
        for figure in figures.values():
            if figure["most"] is not None:
                assert sum(part["time"] for part in figure["parts"]) == pytest.approx(figure["most"], abs=2e-12)
    said = tachys(place, "bounds", "row_unit.toml", "--why", name).stdout
    assert "sum" in said or "unbounded" in said


def test_why_load_is_split_by_who(place):
    said = tachys(place, "bounds", "row_unit.toml", "--why", "load").stdout
    assert "step.regulate" in said
    assert "any 10.00 ms" in said


def test_a_variant_changes_what_it_says_and_no_more(place):
    def latency(*more):
        data = json.loads(tachys(place, "bounds", "row_unit.toml", "--format", "json", *more).stdout)
        return {name: isr["latency"]["most"] for name, isr in data["isrs"].items()}

    plain, short = latency(), latency("--variant", "short_write")
    assert short["wheel"] < plain["wheel"]
    assert short["bus_byte"] == plain["bus_byte"]  # held off by the panel, not by the write


def test_warnings_go_to_standard_error_with_a_code_and_a_mend(place):
    done = tachys(place, "bounds", "flagless.toml", "--format", "json")
    json.loads(done.stdout)
    said = " ".join(done.stderr.split())
    assert 'flagless.toml:15: step.s.polls: "ready": looks at a flag that nothing sets' in said
    assert 'did you mean "redy"? [flag-never-set]' in said


def test_a_starter_is_written_once_and_works(place):
    assert tachys(place, "new", "mine").returncode == 0
    done = tachys(place, "bounds", "mine/model.toml", "--strict")
    assert (done.returncode, done.stderr) == (0, "")
    (place / "mine" / "model.toml").write_text("changed")
    again = tachys(place, "new", "mine")
    assert again.returncode == 2
    assert "is there already" in again.stderr
    assert (place / "mine" / "model.toml").read_text() == "changed"


# --- captures ----------------------------------------------------------------------------------------------------


def test_inspect_describes_lines_and_measures_spans(place):
    data = json.loads(tachys(place, "inspect", "faulty.vcd", "--span", "D0:rise", "D1:rise", "--format", "json").stdout)
    assert data["format"] == "tachys.capture/1"
    tick = data["signals"]["D7"]["period"]
    assert abs(tick["mean"] / 1e-3 - 1 - 9e-6) < 5e-6  # the board is 23 ppm fast, the analyser 14 ppm slow
    (span,) = data["spans"]
    assert span["worst"][0]["value"] == span["most"]
    assert span["most"] == pytest.approx(168e-6, abs=1e-6)
    said = tachys(place, "inspect", "faulty.vcd").stdout
    assert max(map(len, said.splitlines())) <= 100
    assert "ppm of the analyser's clock" in said


def test_inspect_levels_buses_and_windows(place):
    said = tachys(
        place, "inspect", "faulty.vcd", "--bus", "state=D1,D3", "--at", "22.96 ms", "--value", "state:1=wheel"
    )
    line = next(line for line in said.stdout.splitlines() if line.startswith("state"))
    assert line.split() == ["state", "1", "wheel"]
    part = json.loads(
        tachys(place, "inspect", "faulty.vcd", "--from", "10 ms", "--to", "12 ms", "--format", "json").stdout
    )
    assert part["length"] == pytest.approx(2e-3)
    rows = table_of(tachys(place, "inspect", "faulty.vcd", "--format", "csv").stdout)
    assert [row["signal"] for row in rows] == [f"D{k}" for k in range(10)]


def test_convert_and_standard_input(place):
    assert tachys(place, "convert", "faulty.vcd", "again.csv.gz").returncode == 0
    one = json.loads(tachys(place, "inspect", "faulty.vcd", "--format", "json").stdout)
    other = json.loads(tachys(place, "inspect", "again.csv.gz", "--format", "json").stdout)
    assert one["signals"] == other["signals"]
    piped = tachys(place, "inspect", "-", "--format", "json", stdin=(place / "faulty.vcd").read_text())
    assert json.loads(piped.stdout)["signals"] == one["signals"]


@pytest.mark.parametrize(
    "arguments",
    [
        ("row_unit.toml", "--for", "100 ms"),
        ("row_unit.toml", "--for", "100 ms", "--from", "10 ms", "--to", "11 ms"),
        ("row_unit.toml", "faulty.vcd"),
        ("row_unit.toml", "faulty.vcd", "--beside", "--for", "100 ms"),
        ("row_unit.toml", "--spread", "wheel", "--spread", "step.log.late", "--for", "100 ms"),
        ("late.toml", "--worst", "a"),
        ("faulty.vcd", "--from", "22 ms", "--to", "23 ms", "--cursor", "22.5 ms"),
    ],
    ids=" ".join,
)
def test_everything_that_can_be_drawn_is(place, arguments):
    done = tachys(place, "draw", *arguments, "-o", "figure.svg")
    assert (done.returncode, done.stderr) == (0, "")
    figure = (place / "figure.svg").read_text()
    assert figure.count("<path") > 10
    again = tachys(place, "draw", *arguments, "-o", "again.svg")
    assert again.returncode == 0


def test_timelines_as_text(place):
    played = tachys(place, "draw", "late.toml", "--text", "--for", "10 ms").stdout
    assert "isr.a" in played
    assert "# runs" in played
    wave = tachys(place, "draw", "faulty.vcd", "--text", "--cursor", "10 ms", "--cursor", "30 ms").stdout
    assert "B - A = 20 ms" in wave
    assert max(map(len, wave.splitlines())) <= 100


def test_a_moment_by_its_need_or_finding_and_some_lanes(place):
    shown = tachys(
        place, "draw", "row_unit.toml", "faulty.vcd", "release", "--text", "--lines", "wheel,step.log"
    ).stdout
    assert "need.release: the event at 22.789875 ms was late" in shown
    rows = [line.split(" ")[0] for line in shown.splitlines() if line.startswith(("isr.", "step."))]
    assert rows == ["isr.wheel", "step.log"]
    assert "!" in shown
    assert "bus_byte" in tachys(place, "draw", "row_unit.toml", "faulty.vcd", "1", "--text").stdout
    named = tachys(
        place, "draw", "faulty.vcd", "--text", "--to", "1 ms", "--bus", "s=D0,D5", "--value", "s:2=late"
    ).stdout
    assert "late--" in named
    assert "there is no lane" in tachys(place, "draw", "row_unit.toml", "--lines", "whel").stderr


WRONG = {
    ("simulate", "row_unit.toml", "--for", "0 s"): "it must be more than 0",
    ("simulate", "row_unit.toml", "--for", "5 cycles"): "counts cycles",
    ("simulate", "row_unit.toml", "--from", "2 s"): "--from must come before --to",
    ("simulate", "row_unit.toml", "-o", "t.doc"): "end it in .vcd, .csv, .parquet",
    ("simulate", "row_unit.toml", "--worst", "wheell"): 'did you mean "wheel"?',
    ("simulate", "row_unit.toml", "--costs", "nowhere.csv"): "there is no such file",
    ("simulate", "row_unit.toml", "--runs", "0"): "--runs",
    ("bounds", "row_unit.toml", "--why", "whel"): 'did you mean "wheel"?',
    ("bounds", "row_unit.toml", "--variant", "half"): "half_clock",
    ("draw", "row_unit.toml", "-o", "t.gif"): "end it in .png, .svg or .pdf",
    ("draw", "row_unit.toml", "--beside"): "name the capture too",
    ("draw", "row_unit.toml", "--text", "--open"): "--open does not go with --text",
    ("draw", "faulty.vcd", "--dark"): "--dark does not go with a capture alone",
    ("draw", "row_unit.toml", "--value", "s:1=x"): "--value does not go with a model alone",
    ("report", "row_unit.toml", "-o", "p.pdf"): "a page ends in .html",
    ("new", "d", "--like", "loom", "--from-capture", "faulty.vcd"): "do not go together",
    ("simulate", "row_unit.toml", "--bodies", "measured"): "name it with --costs",
    ("simulate", "row_unit.toml", "--costs", "most"): "--bodies most",
    ("inspect", "faulty.vcd", "--at", "1 ms", "--at", "2 ms", "--at", "3 ms"): "two at most",
    ("inspect", "faulty.vcd", "--bus", "x=D0&0"): "a mask lets some of 64 bits through",
    ("draw", "row_unit.toml", "--spread", "nothing"): "there is no figure",
    ("draw", "faulty.vcd", "--from", "3 s"): "outside the capture",
    ("inspect", "faulty.vcd", "--span", "D0:up", "D1"): "rise, fall or both",
    ("inspect", "faulty.vcd", "--span", "D0", "D11"): 'did you mean "D1"?',
    ("inspect", "faulty.vcd", "--bus", "b=D0,D77"): "there is no signal",
    ("inspect", "faulty.vcd", "--at", "9 s"): "the capture lasts from",
    ("inspect", "nowhere.vcd"): "there is no such file",
    ("inspect", "."): "this is a directory",
    ("check", "row_unit.toml", "nowhere.vcd"): "there is no such file",
    ("check", "row_unit.toml", "faulty.vcd", "--baseline", "row_unit.toml"): "is no JSON",
    ("explain", "row_unit.toml", "faulty.vcd", "9"): "there is no finding 9",
    ("explain", "row_unit.toml", "faulty.vcd", "relase"): 'did you mean "release"?',
    ("fit", "row_unit.toml", "nowhere.vcd"): "there is no such file",
    ("fit", "row_unit.toml", "faulty.vcd", "--margin", "20"): "--margin",
    ("convert", "faulty.vcd", "f.xyz"): "its ending tells no form",
    ("convert", "row_unit.toml", "f.vcd"): "row_unit.toml",
}


@pytest.mark.parametrize("arguments", WRONG, ids=" ".join)
def test_what_is_wrong_ends_with_two_and_a_mend(place, arguments):
    before = sorted(path.name for path in place.iterdir())
    done = tachys(place, *arguments)
    assert done.returncode == 2
    assert WRONG[arguments] in " ".join(done.stderr.split())
    assert "Traceback" not in done.stderr
    assert sorted(path.name for path in place.iterdir()) == before


def test_check_fits_one_screen_and_says_what_to_do_next(place):
    done = tachys(place, "check", "row_unit.toml", "faulty.vcd")
    assert done.returncode == 1
    lines = done.stdout.splitlines()
    assert len(lines) <= 40
    assert max(map(len, lines)) <= 100
    text = " ".join(done.stdout.split())
    assert "faulty.vcd against row_unit.toml: 3 of 4 needs missed, 1 finding" in text
    assert "1. step.log: it holds interrupts off for longer than modelled: at least 234.4 us, model 22.00 us." in text
    assert "with it bus_byte.deadline, pressure.deadline and release do not hold on paper either" in text
    assert "release: 7 of 7 held off by step.log" in text
    assert "tachys explain row_unit.toml faulty.vcd 1" in text
    figures = tachys(place, "check", "row_unit.toml", "mended.csv", "--figures").stdout
    assert "250.0022" in figures
    assert "seen of it" in figures
    assert max(map(len, figures.splitlines())) <= 100


def test_several_captures_are_pooled_and_shown_one_by_one(place):
    done = tachys(place, "check", "row_unit.toml", "mended.csv", "faulty.vcd")
    assert "2 captures together against row_unit.toml" in done.stdout
    assert "7 of 2008" in done.stdout
    data = json.loads(tachys(place, "check", "row_unit.toml", "mended.csv", "faulty.vcd", "--format", "json").stdout)
    assert data["format"] == "tachys.checks/1"
    assert data["pooled"]["needs"]["release"] | {"verdict": "missed", "misses": 7} == data["pooled"]["needs"]["release"]
    assert data["pooled"]["findings"][0]["captures"] == 1
    assert [each["capture"] for each in data["captures"]] == ["mended.csv", "faulty.vcd"]


def test_needs_as_test_cases_and_what_got_worse(place):
    from xml.etree import ElementTree

    good = tachys(place, "check", "row_unit.toml", "mended.csv", "--format", "json", "--junit", "good.xml")
    (place / "before.json").write_text(good.stdout)
    bad = tachys(place, "check", "row_unit.toml", "faulty.vcd", "--junit", "bad.xml", "--baseline", "before.json")
    suite = ElementTree.parse(place / "bad.xml").getroot().find("testsuite")
    assert (suite.get("tests"), suite.get("failures")) == ("4", "3")
    assert "worst seen 168.0 us, missed 7 times" in suite.find("testcase[@name='release']/failure").get("message")
    assert ElementTree.parse(place / "good.xml").getroot().find("testsuite").get("failures") == "0"
    assert "worse: need.release was met, is missed" in bad.stdout
    assert "worse: new: step.log: it holds interrupts off" in bad.stdout
    same = tachys(place, "check", "row_unit.toml", "mended.csv", "--baseline", "before.json", "--strict")
    assert (same.returncode, "nothing got worse" in same.stdout) == (0, True)


def test_a_miss_is_explained_to_the_picosecond(place):
    done = tachys(place, "explain", "row_unit.toml", "faulty.vcd", "release", "-o", "moment.png")
    text = done.stdout
    assert "limit 40.00 us: 128.0 us late" in text
    assert "held off while step.log runs" in text
    assert "the whole bound" in text
    assert (place / "moment.png").read_bytes().startswith(b"\x89PNG")
    lines = [line.rstrip() for line in text.splitlines() if " ms  " in line]
    rows = [line.split() for line in lines if line.endswith((" runs", "exit"))]
    scale = {"ns": 1000, "us": 10**6, "ms": 10**9}
    assert sum(float(row[2]) * scale[row[3]] for row in rows) == pytest.approx(168e6)
    calm = tachys(place, "explain", "row_unit.toml", "mended.csv")
    assert "met; the slowest answer that was seen" in calm.stdout
    near = tachys(place, "explain", "row_unit.toml", "faulty.vcd", "release", "--at", "1 ms")
    assert near.returncode == 0


def test_a_fit_is_shown_first_and_written_on_demand(place):
    text = (place / "row_unit.toml").read_text()
    (place / "mine.toml").write_text(text)
    shown = tachys(place, "fit", "mine.toml", "faulty.vcd")
    assert "Nothing is written yet" in shown.stdout
    assert "no longer hold on paper" in " ".join(shown.stdout.split())
    assert (place / "mine.toml").read_text() == text
    assert "written: mine.toml" in tachys(place, "fit", "mine.toml", "faulty.vcd", "--margin", "20 %", "--write").stdout
    changed = [line for line in (place / "mine.toml").read_text().splitlines() if line not in text.splitlines()]
    assert len(changed) == 1
    assert changed[0].startswith('guard = { level = 0, for = "282.8 us", at = "10 us" }')
    assert "# measured: faulty.vcd, " in changed[0]
    assert "Nothing to change" in tachys(place, "fit", "mine.toml", "faulty.vcd", "mended.csv").stdout


def test_time_by_the_boards_own_clock(place):
    data = json.loads(tachys(place, "check", "row_unit.toml", "mended.csv", "--own-clock", "--format", "json").stdout)
    assert data["periods"]["source.pressure"]["mean"] == pytest.approx(250e-6, rel=2e-7)
    assert any("counted by the board's clock" in remark for remark in data["remarks"])


def test_values_of_a_bus_have_names(place):
    done = tachys(place, "inspect", "faulty.vcd", "--bus", "state=D1,D3", "--value", "state:0=idle", "--value",
                  "state:1=wheel")  # fmt: skip
    assert "Values of state" in done.stdout
    assert "1 = 0x1  wheel" in done.stdout


def test_a_capture_that_no_probe_names_is_not_called_sound(place):
    text = (place / "row_unit.toml").read_text()
    (place / "blind.toml").write_text(text[: text.index("[probe.D0]")])
    done = tachys(place, "check", "blind.toml", "mended.csv")
    assert "mended.csv against blind.toml: nothing of the model is seen" in done.stdout
    assert done.returncode == 2
    assert 'such as [probe.D0] shows = "isr.wheel"' in " ".join(done.stderr.split())
    assert tachys(place, "explain", "blind.toml", "mended.csv").returncode == 2


def test_a_strict_check_passes_only_what_somebody_has_looked_at(place):
    """The row unit has a need that this capture shows no instance of, and the board with the fault has findings."""
    assert tachys(place, "check", "row_unit.toml", "mended.csv", "--strict").returncode == 0
    done = tachys(place, "check", "row_unit.toml", "faulty.vcd", "--strict")
    assert done.returncode == 1
    assert "Strict: " in done.stdout
    assert "guard-longer step.log" in done.stdout
    text = (place / "row_unit.toml").read_text()
    accepted = text + '\n[need.rare]\nfrom = "isr.hopper.start"\nto = "isr.hopper.end"\nwithin = "1 ms"\n'
    (place / "paper.toml").write_text(accepted)
    assert tachys(place, "check", "paper.toml", "mended.csv").returncode == 0
    done = tachys(place, "check", "paper.toml", "mended.csv", "--strict")
    assert done.returncode == 1
    assert "rare: met on paper alone" in done.stdout
    (place / "paper.toml").write_text(accepted + 'accept = "paper"\n')
    assert "says no reason" in tachys(place, "check", "paper.toml", "mended.csv").stderr
    (place / "paper.toml").write_text(accepted + 'accept = "paper"\nbecause = "the hopper has no pin"\n')
    done = tachys(place, "check", "paper.toml", "mended.csv", "--strict")
    assert done.returncode == 0
    assert "1 time what this rests on is accepted" in done.stdout


@pytest.mark.parametrize("command", [("bounds",), ("simulate", "--for", "20 ms"), ("check",)])
def test_a_baseline_says_what_got_worse_whatever_stands_in_it(place, command):
    """The worse model is told against the better one; of a mangled baseline no word leads to a fault."""
    name, *more = command
    files = [*more, "mended.csv"] if name == "check" else more
    before = place / f"before_{name}.json"
    good = tachys(place, name, "row_unit.toml", *files, "--format", "json")
    before.write_text(good.stdout)
    same = tachys(place, name, "row_unit.toml", *files, "--baseline", before.name, "--junit", "o.xml")
    assert "nothing got worse" in same.stdout
    assert 'failures="0"' in (place / "o.xml").read_text()
    worse = [*more, "faulty.vcd"] if name == "check" else [*more, "--set", "step.log.guard.for=70 us"]
    told = tachys(place, name, "row_unit.toml", *worse, "--baseline", before.name, "--strict", "--junit", "o.xml")
    assert told.returncode == 1
    assert "worse: need.release was met, is" in told.stdout
    assert 'failures="0"' not in (place / "o.xml").read_text()
    dice, data = random.Random(1), json.loads(good.stdout)
    for _ in range(20):
        before.write_text(json.dumps(mangled(dice, data)))
        done = tachys(place, name, "row_unit.toml", *files, "--baseline", before.name)
        assert done.returncode in (0, 2), done.stderr


def mangled(dice, data):
    """The same with one thing in it replaced by something of another kind."""
    if isinstance(data, dict | list) and data and dice.random() < 0.9:
        keys = list(data) if isinstance(data, dict) else list(range(len(data)))
        made = data.copy()
        key = dice.choice(keys)
        made[key] = mangled(dice, data[key])
        return made
    return dice.choice([None, True, -1, 1e308, "x", [], {}, [[]], {"most": "x"}, float("nan"), 10**400])
