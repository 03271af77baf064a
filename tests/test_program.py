"""The built program, run on files in a temporary folder: what it prints and how it ends."""

import json
import subprocess
import sys

import pytest

from calling import tachys

HEAVY = {"numba", "scipy", "pandas", "matplotlib"}


def built(*arguments, cwd=None):
    """The program as a process of its own."""
    return subprocess.run([sys.executable, "-m", "tachys", *arguments], capture_output=True, text=True, cwd=cwd)


def run(*arguments, cwd="."):
    return tachys(cwd, *map(str, arguments))


@pytest.fixture(scope="module")
def project(tmp_path_factory):
    folder = tmp_path_factory.mktemp("demo")
    done = built("demo", cwd=folder)
    assert (done.returncode, done.stderr) == (0, "")
    return folder / "row-unit", done.stdout


def test_the_demo_tells_what_it_found_within_100_columns(project):
    folder, said = project
    assert "release: 7 late or lost, limit 40.00 us" in said
    assert "7 of 7 held off by step.log for 72.54 to 167.7 us, modelled 22.00 us" in " ".join(said.split())
    assert "after the mend: no need is missed" in said
    assert max(map(len, said.splitlines())) <= 100
    assert (folder / "worst.png").read_bytes().startswith(b"\x89PNG")


def test_check_ends_as_the_board_behaves(project):
    folder, _ = project
    broken = built("check", "row_unit.toml", "faulty.vcd", "--format", "json", cwd=folder)
    assert broken.returncode == 1
    data = json.loads(broken.stdout)
    assert data["format"] == "tachys.check/1"
    assert data["needs"]["release"]["verdict"] == "missed"
    assert data["needs"]["release"]["misses"][0]["causes"][0]["what"] == "step.log"
    assert run("check", "row_unit.toml", "mended.csv", "--strict", cwd=folder).returncode == 0
    csv = run("check", "row_unit.toml", "mended.csv", "faulty.vcd", "--format", "csv", cwd=folder)
    assert csv.returncode == 1
    assert len(csv.stdout.splitlines()) == 9


def test_bounds_as_data_and_taken_apart(project):
    folder, _ = project
    data = json.loads(run("bounds", "row_unit.toml", "--format", "json", cwd=folder).stdout)
    latency = data["isrs"]["pressure"]["latency"]
    assert sum(part["time"] for part in latency["parts"]) == pytest.approx(latency["most"], abs=1e-13)
    why = run("bounds", "row_unit.toml", "--why", "pressure", cwd=folder).stdout
    assert "held off: guard" in why
    assert "step.panel" in why


def test_files_are_not_overwritten(project):
    folder, _ = project
    model = folder.parent / "mine" / "row_unit.toml"
    model.parent.mkdir()
    model.write_text("mine")
    done = run("demo", "mine", cwd=folder.parent)
    assert done.returncode == 2
    assert "is there already and differs" in done.stderr
    assert model.read_text() == "mine"
    assert [path.name for path in model.parent.iterdir()] == ["row_unit.toml"]


RUBBISH = {
    "missing.toml": None,
    "empty.toml": b"",
    "binary.toml": bytes(range(256)),
    "broken.toml": b"tachys = 1\n[core\n",
    "deep.toml": b"a = " + b"[" * 5000,
    "nul.toml": b"tachys = 1\0",
}


@pytest.mark.parametrize("name", RUBBISH)
@pytest.mark.parametrize("command", ["bounds", "check"])
def test_rubbish_ends_with_2_and_one_message(name, command, project):
    folder, _ = project
    if RUBBISH[name] is not None:
        (folder / name).write_bytes(RUBBISH[name])
    arguments = [command, name] if command == "bounds" else [command, "row_unit.toml", name]
    done = run(*arguments, cwd=folder)
    assert done.returncode == 2
    assert done.stdout == ""
    assert done.stderr.startswith(name)
    assert len(done.stderr.splitlines()) == 1


def test_what_a_call_can_get_wrong(project):
    folder, _ = project
    (folder / "probe.toml").write_text((folder / "row_unit.toml").read_text().replace("probe.D9", "probe.D99"))
    done = run("check", "probe.toml", "faulty.vcd", cwd=folder)
    assert done.returncode == 2
    assert 'probe.D99: faulty.vcd has no signal "D99"; did you mean "D9"?' in done.stderr
    for arguments in (
        ["bounds", "."],
        ["bounds"],
        ["nothing"],
        ["check", "row_unit.toml"],
        ["bounds", "row_unit.toml", "--why", "weel"],
    ):
        done = run(*arguments, cwd=folder)
        assert done.returncode == 2, arguments
        assert "Traceback" not in done.stderr
    done = run("draw", "row_unit.toml", "faulty.vcd", "-o", "x.bmp", cwd=folder)
    assert (done.returncode, (folder / "x.bmp").exists()) == (2, False)


def test_overload_is_said_and_not_searched_for_ever(tmp_path):
    text = 'tachys = 1\n[core]\nclock = "1 MHz"\nentry = "1 us"\nexit = "1 us"\n'
    text += '[source.a]\ngap = "10 us"\n[isr.a]\non = "source.a"\ncost = "9 us"\ndeadline = "20 us"\n'
    (tmp_path / "m.toml").write_text(text)
    done = run("bounds", "m.toml", "--strict", cwd=tmp_path)
    assert done.returncode == 1
    assert "unbounded" in done.stdout
    assert "want 110.0% of the core" in done.stdout


def test_the_schema_knows_every_table():
    schema = json.loads(run("schema").stdout)
    assert {"core", "source", "isr", "step", "need", "probe"} <= schema["properties"].keys()
    assert schema["$defs"]["NeedTable"]["properties"]["from"]


@pytest.mark.parametrize("arguments", [["--help"], ["bounds", "row_unit.toml"]])
def test_light_commands_import_nothing_heavy(arguments, project):
    folder, _ = project
    code = (
        "import sys\nfrom tachys.cli.main import main\nsys.argv = ['tachys', *sys.argv[1:]]\n"
        "try:\n    main()\nexcept SystemExit:\n    print(*sys.modules, file=sys.stderr)"
    )
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True, cwd=folder)
    loaded = {name.split(".")[0] for name in done.stderr.split()}
    assert "click" in loaded
    assert not loaded & HEAVY


def test_the_core_knows_nothing_of_the_terminal():
    names = "model.loading worstcase.analysis capture.reading checking.checking drawing.scene demo.project api"
    code = "import sys\n" + "".join(f"import tachys.{name}\n" for name in names.split()) + "print(*sys.modules)"
    loaded = set(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.split())
    assert "tachys.checking.checking" in loaded
    assert not loaded & {"click", "rich"}


def test_the_package_gives_the_same_power_to_a_notebook(project):
    import tachys

    folder, _ = project
    system = tachys.load_model(folder / "row_unit.toml")
    assert tachys.bounds(system).needs["release"].proved
    assert tachys.check(system, tachys.read_capture(folder / "faulty.vcd")).missed


def test_dividers_find_and_say(project):
    folder, _ = project
    found = json.loads(run("dividers", "--clock", "48 MHz", "--period", "1 ms", "--format", "json").stdout)
    assert found["settings"][0]["registers"] == {"prescale": None, "reload": 47999, "preload": 17536}
    assert found["settings"][0]["deviation_ppm"] == 0
    assert found["settings"][0]["slips_ppm"]["one more"] == pytest.approx(1e6 / 48000)
    far = run("dividers", "--clock", "16 MHz", "--period", "10 s", "--prescale", "1,8,64,256")
    assert far.returncode == 1
    assert "a counter of 20 bits instead of 16" in far.stdout
    given = run("dividers", "--clock", "16 MHz", "--prescale", "64", "--reload-register", "249")
    assert "an output toggled by it: 500 Hz" in given.stdout
    watchdog = run(
        "dividers", "--clock", "32 kHz", "--tolerance", "10 %", "--period", "1 s", "--prescale", "4,8,16,32",
        "--width", "12", "--at-least", "--format", "json",
    )  # fmt: skip
    assert min(setting["shortest"] for setting in json.loads(watchdog.stdout)["settings"]) >= 1
    model = json.loads(run("dividers", "row_unit.toml", "--format", "json", cwd=folder).stdout)
    assert [timer["deviation_ppm"] for timer in model["timers"]] == [0, 0]
    assert model["clocks"]["bus"] == {"hertz": 24e6, "tolerance": 5e-05, "from": "core"}


@pytest.mark.parametrize(
    ("call", "words"),
    [
        ("--clock 0MHz --period 1ms", "it must be more than 0"),
        ("--clock -4MHz --period 1ms", "it must be more than 0"),
        ("--clock 4MHz --period 1ns", "shorter than one tick of the clock, 250 ns"),
        ("--clock 4MHz --period 1ms --width 99", "no counter has 99 bits"),
        ("--clock 4MHz --count 99999999999999999999999", "is not in reach: 1 to 2^64"),
        ("--clock 4MHz --count 70000", "does not fit 16 bits: at most 65536"),
        ("--clock 4MHz", "nothing is asked"),
        ("--period 1ms", "--clock is missing"),
    ],
)
def test_dividers_refuse_in_one_line(call, words):
    done = run("dividers", *call.split())
    assert (done.returncode, done.stdout) == (2, "")
    assert words in done.stderr
    assert len(done.stderr.splitlines()) == 1
