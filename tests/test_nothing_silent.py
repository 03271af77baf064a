"""Files as strangers leave them: nothing lost, nothing silent, nothing half done."""

import contextlib
import gzip
import json
import os
import re
import shlex
import signal
import stat
import subprocess
import sys
import threading
import time
from xml.etree import ElementTree

import pytest

from calling import capture_bytes, tachys
from tachys.capture import opening
from tachys.capture.csv import CsvShape, read_csv
from tachys.capture.eventstream import read_event_stream
from tachys.capture.inspecting import spans
from tachys.capture.reading import read_capture
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo import board
from tachys.demo.analyser import to_csv
from tachys.demo.project import model_text
from tachys.errors import InputError
from tachys.files import write_whole
from tachys.model.loading import read_model

NS = 1000


def csv(text, **shape):
    return read_csv([text if isinstance(text, bytes) else text.encode()], "c.csv", CsvShape(**shape))


def changes(signal):
    return list(zip(signal.at.tolist(), signal.value.tolist(), strict=True))


@pytest.mark.parametrize("time", ["18446745", "9.3e6", "9223372.1", "123456789012345678", "1e30"])
def test_a_time_beyond_64_bits_is_an_error_with_its_row(time):
    with pytest.raises(InputError, match=r"c\.csv:3: .*is beyond 64 bits; is its unit right"):
        csv(f"Time [s],D0\n0,0\n{time},1\n")
    assert csv("Time [s],D0\n0,0\n4000000,1\n").end == 4 * 10**18


def test_every_cut_of_a_csv_keeps_whole_rows_only():
    whole = b"Time [ns],D0,D1\n" + b"".join(b"%d,%d,%d\n" % (5 * n, n % 2, n // 2 % 2) for n in range(12))
    for length in range(whole.index(b"\n") + 7, len(whole)):
        capture = read_csv([whole[:length]], "c.csv")
        rows = whole[:length].rpartition(b"\n")[0].count(b"\n")
        assert capture.end >= 5 * NS * (rows - 1)
        for line in capture.signals.values():
            assert line.at[-1] <= capture.end
        whole_rows = read_csv([whole[: whole[:length].rindex(b"\n") + 1]], "c.csv")
        for name, line in whole_rows.signals.items():
            assert changes(capture.signals[name])[: len(line.at)] == changes(line)


def test_what_is_no_line_break_in_a_comment_is_none():
    for odd in ("\x0c", "\x85", "\u2028", "\x1c"):
        assert changes(csv(f"# a{odd}b\nTime [ns],D0\n0,0\n5,1\n").signals["D0"]) == [(0, 0), (5 * NS, 1)]


@pytest.mark.parametrize("header", ["Time [min]", "t (mus)", "Sample [fortnight]"])
def test_an_unknown_unit_of_time_is_an_error(header):
    with pytest.raises(InputError, match=r"unit .*is not known.*--time-unit"):
        csv(f"{header},D0\n0,0\n5,1\n")


def test_a_missing_unit_is_remarked_and_a_contradicting_one_refused():
    (remark,) = csv("Time,D0\n0,0\n5,1\n").remarks
    assert "no unit" in remark
    assert "--time-unit" in remark
    assert csv("Time [ns],D0\n0,0\n5,1\n").remarks == ()
    assert csv("Time,D0\n0,0\n5,1\n", time_unit="us").end == 5 * 10**6
    with pytest.raises(InputError, match=r'the header says "ns"'):
        csv("Time [ns],D0\n0,0\n5,1\n", time_unit="ms")


def test_marks_close_together_and_at_once_stay_in_order():
    text = b"10,a,mark\n10,a,mark\n400,a,mark\n5000,a,mark\n5000,b,mark\n5001,b,mark\n"
    capture = read_event_stream([text], "e.txt")
    assert [t for t, v in changes(capture.signals["a"]) if v] == [10, 400, 5000]
    for line in capture.signals.values():
        assert (line.at[1:] > line.at[:-1]).all()
    assert any("2 marks" in remark for remark in capture.remarks)


def test_an_enter_as_the_first_event_is_an_edge():
    capture = read_event_stream([b"100,isr.a,enter\n200,isr.a,leave\n300,isr.a,enter\n"], "e.txt")
    assert [t for t, v in changes(capture.signals["isr.a"]) if v] == [100, 300]
    assert spans(capture, ("isr.a", "rise"), ("isr.a", "fall")).after.tolist() == [100]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (b"5, ,enter\n", "is no event"),
        (b"5,a\x0bb,enter\n", "is no event"),
        (b"# bits = 24\n5,a,enter\n1000,a,leave\n900,a,enter\n", r"e\.txt:4: .*runs backwards"),
        (b"# unit = 10 cycles\n5,a,enter\n", r"e\.txt:1: .*cycles"),
    ],
)
def test_event_streams_that_are_wrong_say_so(text, words):
    with pytest.raises(InputError, match=words):
        read_event_stream([text], "e.txt")


def test_a_counter_that_wraps_and_a_header_line_are_read(tmp_path):
    text = b"time,name,what\n# bits = 16\n# unit = 1 us\n65000,a,enter\n10,a,leave\n"
    (tmp_path / "e.csv").write_bytes(text)
    capture = read_capture(tmp_path / "e.csv")
    assert capture.end - 65000 * 10**6 == (65536 - 65000 + 10) * 10**6


# --- writing ---------------------------------------------------------------------------------------------------------


def test_writing_goes_through_links_and_keeps_modes(tmp_path):
    real, link = tmp_path / "real.toml", tmp_path / "link.toml"
    real.write_text("old")
    real.chmod(0o600)
    link.symlink_to(real)
    write_whole(link, "new")
    assert link.is_symlink()
    assert real.read_text() == "new"
    assert stat.S_IMODE(real.stat().st_mode) == 0o600
    assert [path.name for path in tmp_path.iterdir() if path.name.startswith(".")] == []


def test_what_is_no_file_is_written_into(tmp_path):
    pipe, got = tmp_path / "pipe", []
    os.mkfifo(pipe)
    reader = threading.Thread(target=lambda: got.append(pipe.read_bytes()))
    reader.start()
    write_whole(pipe, "told")
    reader.join(5)
    assert got == [b"told"]
    assert stat.S_ISFIFO(pipe.stat().st_mode)
    write_whole("/dev/null", "nothing")
    assert stat.S_ISCHR(os.stat("/dev/null").st_mode)


def test_what_may_not_be_written_is_refused(tmp_path):
    kept = tmp_path / "kept.toml"
    kept.write_text("old")
    kept.chmod(0o444)
    with pytest.raises(InputError, match="read-only"):
        write_whole(kept, "new")
    assert kept.read_text() == "old"


# --- ends of a command -----------------------------------------------------------------------------------------------

HEAD = 'tachys = 1\n[core]\nclock = "1 MHz"\nentry = "1 us"\nexit = "1 us"\n'
MISSED = HEAD + '[source.s]\nevery = "1 ms"\n[isr.r]\non = "source.s"\ncost = "9 us"\ndeadline = "5 us"\n'


def shell(command, **env):
    return subprocess.run(["bash", "-c", f"set -o pipefail; {command}"], capture_output=True, text=True,
                          env={**os.environ, **env}, timeout=120)  # fmt: skip


TACHYS = f"{sys.executable} -m tachys"


def here(folder, call):
    """A command line in this process."""
    return tachys(folder, *shlex.split(call))


@pytest.fixture
def model(tmp_path):
    (tmp_path / "m.toml").write_text(MISSED.replace("deadline", "# deadline"))
    return tmp_path / "m.toml"


def test_a_closed_pipe_is_no_miss(model):
    for reader in ("true", "head -1"):
        told = shell(f"{TACHYS} bounds {model} | {reader}")
        assert (told.returncode, told.stderr) == (0, "")


def test_a_full_disk_behind_the_output_is_told(model):
    told = shell(f"{TACHYS} bounds {model} > /dev/full")
    assert told.returncode == 2
    assert "cannot be written: No space left" in told.stderr
    assert "Traceback" not in told.stderr


def test_a_closed_input_and_a_full_stderr_change_no_status(model):
    assert shell(f"{TACHYS} bounds {model} <&-").returncode == 0
    assert shell(f"{TACHYS} bounds {model} 2>/dev/full >/dev/null").returncode == 0
    (model.parent / "n.toml").write_text(MISSED)
    assert shell(f"{TACHYS} simulate {model.parent / 'n.toml'} --for 5ms 2>/dev/full >/dev/null").returncode == 1


@pytest.mark.parametrize("runs", [1, 6])
def test_an_interrupt_shows_what_was_played_until_then(model, runs):
    command = [sys.executable, "-m", "tachys", "simulate", str(model), "--for", "300000s", "--runs", str(runs)]
    for wait in (2, 6, 20, 60):  # a busy machine takes long until it plays
        process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # what runs in the background ignores it
        )  # fmt: skip
        time.sleep(wait)
        os.killpg(process.pid, signal.SIGINT)  # as the terminal does, to all of them
        out, _ = process.communicate(timeout=60)
        assert process.returncode == 130
        if out:
            break
    assert "stopped before the end" in out
    assert "Routines, latency" in out


def test_an_interrupt_at_once_leaves_no_traceback(model):
    for wait in (0.06, 0.2, 0.35):
        process = subprocess.Popen([sys.executable, "-m", "tachys", "bounds", str(model)], stdout=subprocess.PIPE,
                                   stderr=subprocess.PIPE, text=True)  # fmt: skip
        time.sleep(wait)
        process.send_signal(signal.SIGINT)
        _, told = process.communicate(timeout=20)
        assert "entry.py" not in told  # before that it is Python that is interrupted


@pytest.mark.parametrize("code", ["ascii", "latin-1", "cp1252"])
def test_a_code_page_without_arrows_gets_plain_characters(model, code):
    (model.parent / "n.toml").write_text(MISSED)
    told = shell(f"{TACHYS} bounds {model.parent / 'n.toml'}", PYTHONIOENCODING=code, PYTHONUTF8="0")
    assert told.returncode == 1  # it cannot hold
    assert "s -> isr.r.end" in told.stdout


# --- models ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("cost = 6 us", r'm:9: .*"6 us" stands without quotes; write "6 us"'),
        ('cost = "6,5 us"', r'write "6\.5 us"'),
        ("cost = 2026-13-45", r"m:9: .*no date|not a value"),
        ('cost = "6 us"\n[isr.r]', r"\[isr\.r\] stands twice"),
        ('cost = "6 us"\nlevel = "high"', r"level.*a whole number"),
    ],
)
def test_what_newcomers_write_is_met_with_what_would_be_right(text, words):
    with pytest.raises(InputError, match=words):
        read_model(HEAD + f'[source.s]\nevery = "1 ms"\n[isr.r]\n{text}\non = "source.s"\n', "m")


@pytest.mark.parametrize(
    ("core", "words"),
    [
        ('clock = "48 mhz"', r'write "48 MHz"'),
        ('clock = "48 MHz"\nnesting = yes', r"write nesting = true"),
    ],
)
def test_the_core_as_newcomers_write_it(core, words):
    with pytest.raises(InputError, match=words):
        read_model(f"tachys = 1\n[core]\n{core}\n", "m")


def test_a_model_without_a_core_is_told_once():
    with pytest.raises(InputError) as error:
        read_model('tachys = 1\n[source.s]\nevery = "10 cycles"\n', "m")
    assert [str(problem) for problem in error.value.problems] == [
        'm: core: is missing; add a table [core] with clock = "48 MHz"'
    ]


def test_a_model_given_as_a_capture_is_told(tmp_path):
    (tmp_path / "m.toml").write_text(MISSED)
    with pytest.raises(InputError, match="this is a model, and a capture is due"):
        read_capture(tmp_path / "m.toml")
    (tmp_path / "c.vcd").write_text("$timescale 1 ns $end\n")
    told = here(tmp_path, "bounds c.vcd")
    assert told.returncode == 2
    assert "this is a capture, and a model is due" in told.stderr


def test_a_vcd_with_a_mark_of_its_byte_order_is_read():
    text = "\ufeff$timescale 1 ns $end\n$var wire 1 a one $end\n$enddefinitions $end\n#0\n0a\n#5\n1a\n#6\n"
    assert changes(read_vcd([text.encode()], "b.vcd").signals["one"]) == [(0, 0), (5 * NS, 1)]


# --- the terminal and pictures ---------------------------------------------------------------------------------------

STRANGE = "a\x1b[31m\u202eb"
STRANGE_CSV = f"Time [us],{STRANGE},c\n" + "".join(f"{n},{n % 2},{n // 2 % 2}\n" for n in range(40))


@pytest.fixture
def strange(tmp_path):
    (tmp_path / "s.csv").write_text(STRANGE_CSV)
    (tmp_path / "m.toml").write_text(MISSED + '[probe.c]\nshows = "isr.r"\n')
    return tmp_path


@pytest.mark.parametrize(
    "call", ["inspect {0}", "inspect {0} --format csv", "inspect {0} --format json", "draw {0} --text"]
)
def test_names_of_strangers_cannot_move_the_terminal(strange, call):
    told = here(strange, call.format("s.csv"))
    assert told.returncode == 0
    assert not any(sign in told.stdout + told.stderr for sign in ("\x1b", "\u202e"))
    if "json" in call:
        assert STRANGE in str(json.loads(told.stdout)) or repr(STRANGE)[1:-1] in str(json.loads(told.stdout))


def test_a_name_with_dollars_is_no_formula(tmp_path):
    (tmp_path / "m.csv").write_text('Time [us],"$a_{","$\\frac$",c$\n0,1,0,1\n1,0,1,0\n2,1,0,1\n')
    assert here(tmp_path, "draw m.csv -o m.svg").returncode == 0


def test_a_picture_of_strange_names_is_well_formed(strange):
    assert here(strange, "draw s.csv -o s.svg").returncode == 0
    ElementTree.parse(strange / "s.svg")


@pytest.mark.parametrize(
    ("call", "words"),
    [
        ("draw s.csv --spread r", "--spread"),
        ("draw s.csv --worst r", "--worst"),
        ("draw m.toml --cursor 1us", "--cursor"),
        ("draw m.toml s.csv --spread r", "--spread"),
        ("draw m.toml s.csv --from 1s --to 2s", "outside the capture"),
        ("draw s.csv --from 1s --to 2s", "outside the capture"),
        ("draw m.toml --from 3s --to 4s --for 1s", "--for"),
    ],
)
def test_what_does_not_apply_is_an_error_and_no_other_picture(strange, call, words):
    told = here(strange, f"{call} -o p.png")
    assert (told.returncode, words in told.stderr) == (2, True)
    assert not (strange / "p.png").exists()


def test_a_window_may_begin_at_zero(strange):
    assert here(strange, 'draw s.csv --from "0 ms" --to "9 us" -o p.png').returncode == 0


# --- what packs and what never ends ----------------------------------------------------------------------------------


def test_a_bomb_is_refused_and_padding_is_read(tmp_path):
    text = "Time [ns],D0\n" + "".join(f"{n},{n % 2}\n" for n in range(50))
    (tmp_path / "padded.csv.gz").write_bytes(gzip.compress(text.encode()) + b"\0" * 1000)
    assert read_capture(tmp_path / "padded.csv.gz").end == 49 * NS
    assert opening.MOST_SWELL < 1032  # deflate packs no more than that


def test_blank_lines_and_comments_without_end_take_no_time(tmp_path):
    (tmp_path / "blank.csv").write_bytes(b"\n" * (30 << 20) + b"Time [ns],D0\n0,0\n5,1\n")
    begun = time.process_time()
    with contextlib.suppress(InputError):
        read_capture(tmp_path / "blank.csv")
    with pytest.raises(InputError):
        read_event_stream([b"5,a,enter\n#"] + [b"x" * (1 << 20)] * 20, "e", strict=True)
    assert time.process_time() - begun < 5


# --- what once ended in a fault --------------------------------------------------------------------------------------


def test_widths_and_reals_beyond_all_measure_are_told(tmp_path):
    with pytest.raises(InputError, match="is no definition"):
        read_vcd(
            [f"$timescale 1 ns $end\n$var wire {'9' * 5000} ! a $end\n$enddefinitions $end\n#0\n0!\n".encode()], "w"
        )
    text = "$timescale 1 ns $end\n$var real 64 ! a $end\n$enddefinitions $end\n#0\nrinf !\n#5\nr1.5 !\n#9\n"
    (tmp_path / "r.vcd").write_text(text)
    told = here(tmp_path, "inspect r.vcd --format json")
    assert told.returncode == 0
    assert json.loads(told.stdout)


def test_an_event_without_a_name_is_told():
    with pytest.raises(InputError, match=r'm:13: need\.x\.from: "" names no event'):
        read_model(MISSED + '[need.x]\nfrom = ""\nto = "isr.r.end"\nwithin = "1 us"\n', "m")


def test_a_model_of_too_many_things_is_told_at_once():
    text = HEAD + '[loop]\noverhead = "1 us"\n' + "".join(f'[step.s{n}]\ncost = "1 us"\n' for n in range(30_000))
    begun = time.process_time()
    with pytest.raises(InputError, match="30000 steps: at most 2000"):
        read_model(text, "m")
    assert time.process_time() - begun < 5


def test_a_capture_of_thousands_of_signals_is_looked_at_in_seconds(tmp_path):
    names = range(40_000)
    text = (
        "$timescale 1 ns $end\n"
        + "".join(f"$var wire 1 s{n} n{n} $end\n" for n in names)
        + "$enddefinitions $end\n#0\n"
    )
    (tmp_path / "m.vcd").write_text(text + "".join(f"0s{n}\n" for n in names) + "#5\n1s7\n#9\n0s7\n")
    begun = time.monotonic()
    told = here(tmp_path, "inspect m.vcd")
    assert told.returncode == 0
    assert "39700 lines more" in told.stdout
    assert time.monotonic() - begun < 40


def test_parquet_that_was_written_is_read_again(tmp_path):
    text = "$timescale 1 ns $end\n$var real 64 ! a $end\n$var wire 4 b bus $end\n$var wire 1 c c $end\n$enddefinitions $end\n"
    text += "#0\nr0.5 !\nb101 b\nxc\n#5\nr-1e300 !\n1c\n#9\nb1111 b\n0c\n#20\n"
    capture = read_vcd([text.encode()], "w.vcd")
    (tmp_path / "c.parquet").write_bytes(capture_bytes(capture, "c.parquet"))
    again = read_capture(tmp_path / "c.parquet")
    assert (again.begin, again.end, again.resolution) == (capture.begin, capture.end, capture.resolution)
    assert again.signals.keys() == capture.signals.keys()
    for name, line in capture.signals.items():
        assert (changes(again.signals[name]), again.signals[name].real) == (changes(line), line.real)
    whole = (tmp_path / "c.parquet").read_bytes()
    for length in (5, 100, len(whole) - 9, len(whole) - 1):
        (tmp_path / "cut.parquet").write_bytes(whole[:length])
        with pytest.raises(InputError, match="cannot be read"):
            read_capture(tmp_path / "cut.parquet")


def _many_forms():
    """Each format in its varieties, small enough to be cut at every byte."""
    rows = [(n * 7, n % 2, f"{n / 8}", n * 3 % 5) for n in range(14)]
    head = (
        "$timescale 1 ns $end $scope module m $end $var wire 1 ! a $end $var wire 4 !# b $end $var real 64 $ v $end\n"
    )
    vcd = head + "$upscope $end $enddefinitions $end\n#0 $dumpvars x! bx !# r0 $ $end\n"
    vcd += "".join(f"#{t + 1}\n{a}!\nb{b:b} !#\nr{v} $\n" for t, a, v, b in rows)
    comma = "Time [us];a;v\n" + "".join(f"{t},5;{a};{v.replace('.', ',')}\n" for t, a, v, _ in rows)
    stamped = "when,a\n" + "".join(f"2026-11-25 10:00:{t // 60:02}.{t % 60:06},{a}\n" for t, a, *_ in rows)
    stream = "# unit = 10 ns\n" + "".join(f"{9 + t},isr.tick,{'leave' if a else 'enter'}\n" for t, a, *_ in rows)
    return {
        "c.vcd": (read_vcd, vcd), "c.csv": (read_csv, "Time [us],a,b\n" + "".join(f"{t},{a},0x{b}\n" for t, a, _, b in rows)),
        "comma.csv": (read_csv, comma), "stamped.csv": (read_csv, stamped), "c.events": (read_event_stream, stream),
    }  # fmt: skip


@pytest.mark.parametrize("name", ["c.vcd", "c.csv", "comma.csv", "stamped.csv", "c.events"])
def test_every_cut_of_every_format_gives_a_part_of_the_whole(name):
    """Nothing but what stands before the cut, up to the last whole change, and no time beyond it."""
    reader, text = _many_forms()[name]
    whole, read = reader([text.encode()], name), 0
    for cut in range(len(text)):
        try:
            part = reader([text[:cut].encode()], name)
        except InputError:
            continue
        read += 1
        assert part.begin == whole.begin
        assert part.end <= whole.end
        for key, line in part.signals.items():
            assert changes(line) == changes(whole.signals[key])[: len(line.at)]
            assert not len(line.at) or line.at[-1] <= part.end
        assert part.remarks or text[cut - 1].isspace() or text[cut].isspace()
    assert read > len(text) // 2


def test_a_cut_of_what_is_packed_is_told(tmp_path):
    """What came out before the cut is read, with a remark; or it is an error in words."""
    text = "Time [us],a\n" + "".join(f"{n * 13},{n % 2}\n" for n in range(4000))
    packed, file = gzip.compress(text.encode(), mtime=0), tmp_path / "c.csv.gz"
    for cut in range(len(packed) - 1, 0, -61):
        file.write_bytes(packed[:cut])
        with contextlib.suppress(InputError):
            assert any("cut" in remark for remark in read_capture(str(file)).remarks)


# --- what a capture is taken for ---------------------------------------------------------------------------


def test_a_name_without_its_kind_is_met_with_the_source_first():
    """One line, the source first, and no second fault that only follows from it."""
    text = model_text().replace('shows = "isr.wheel"', 'shows = "wheel"')
    with pytest.raises(InputError) as told:
        read_model(text, "m.toml")
    (problem,) = told.value.problems
    assert problem.mend == 'did you mean "source.wheel" or "isr.wheel"?'


@pytest.mark.parametrize("line", ['polls = ""', 'waits = ""', 'polls = "a b"', 'sleep = { unless = "" }'])
def test_a_flag_has_a_name(line):
    """An empty one was taken for none in one place and for one in another."""
    text = 'tachys = 1\n[core]\nclock = "1 MHz"\n[loop]\noverhead = "1 us"\n[step.s]\ncost = "1 us"\n'
    with pytest.raises(InputError, match=r"m\.toml:8: step\.s\.\w+: .* cannot name a flag; letters, digits"):
        read_model(f"{text}{line}\n", "m.toml")


def test_a_fault_that_a_variant_brings_names_it():
    """Where it stands elsewhere, and is right without the variant."""
    with pytest.raises(InputError, match=r"variant.bare.isr.wheel: is taken away, and probe.D1.shows still names it"):
        read_model(model_text() + "\n[variant.bare]\nisr.wheel = false\n", "m.toml", "bare")
    with pytest.raises(InputError, match=r"isr.tick.level: level 3 does not exist .*, with variant flat"):
        read_model(model_text() + "\n[variant.flat]\ncore.levels = 3\n", "m.toml", "flat")


def test_the_first_line_says_what_a_capture_is_more_likely_to_be():
    """Every period off by one power of ten: its unit; half of the lines outside all that is allowed: another board."""
    text, recording = model_text(), board.record(faulty=False)
    csv_text = to_csv(recording).replace("Time [s]", "Time [ms]")
    told = check(read_model(text, "m.toml"), csv(csv_text)).remarks[0]
    assert told.startswith("every period is 1/1000 of what the model says: look at the unit of time first")
    swapped = read_model(re.sub("(?m)^cost = .*", 'cost = ["50 us", "60 us"]', text), "m.toml")
    told = check(swapped, csv(to_csv(recording))).remarks[0]
    assert "show nothing that the model allows: is this a capture of this board" in told
    assert not any("look at" in each for each in check(read_model(text, "m.toml"), csv(to_csv(recording))).remarks)


def test_a_probe_of_real_numbers_is_refused():
    """A number is no level."""
    values = csv("Time [us],D0\n0,0.5\n1,1\n2,0\n")
    with pytest.raises(InputError, match=r"probe\.D0: .*holds real numbers; a line of levels or a bus is due"):
        check(read_model(model_text(), "m.toml"), values)


def test_a_separator_within_a_header_cell_separates_nothing():
    """The row below tells which one it is."""
    read = csv('Time [us],"a;b",c\n0,1,0\n1,0,1\n')
    assert list(read.signals) == ["a;b", "c"]
