"""Marks of the firmware: the header compiled and run, its stream, a dump of its memory, and all that breaks on the way."""

import os
import random
import shutil
import signal
import socket
import struct
import subprocess
import sys
import threading
import time

import pytest
from bincopy import BinFile
from msgspec.structs import replace

from tachys.capture.eventstream import read_event_stream
from tachys.capture.reading import read_capture
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.correct.fitting import fit
from tachys.demo.analyser import to_vcd
from tachys.demo.board import board, look
from tachys.demo.machine import Machine
from tachys.demo.project import model_text
from tachys.demo.speaking import HERTZ, MARK, Sender, open_line, speak, words_of
from tachys.errors import InputError
from tachys.marks.codes import FORMAT, digest, marks_of
from tachys.marks.header import NAME, header
from tachys.marks.listening import open_source
from tachys.marks.memory import dumped, marked_lines
from tachys.marks.rates import baud_needed, bytes_a_second, markings, to_leave_out
from tachys.marks.samples import Samples
from tachys.marks.stream import Stream, event_lines
from tachys.model.loading import read_model
from tachys.model.quantities import Range
from tachys.needs.verdicts import Verdict
from tachys.worstcase.analysis import bounds

CC = shutil.which("cc")
HEAD = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 3\nentry = "20 ns"\nexit = "10 ns"\n'
MODEL = (
    HEAD
    + "".join(
        f'[source.{name}]\nevery = "{every} us"\n[isr.{name}]\non = "source.{name}"\nlevel = {level}\ncost = "2 us"\n'
        for name, every, level in (("a", 50, 0), ("b", 90, 1), ("c", 700, 2))
    )
    + '[loop]\noverhead = "1 us"\n[step.log]\ncost = "1 us"\nevery = "1 ms"\n[buffer.q]\ndepth = 4\nfed_by = "source.c"\n[isr.q]\non = "source.a"\ndrains = "buffer.q"\ncost="1 us"\nlevel=0\norder=2\n'
)
FLAGS = ["-std=c99", "-Wall", "-Wextra", "-Werror", "-O2", "-DTACHYS_ON"]
PORT = """
#define _POSIX_C_SOURCE 200809L
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#define TACHYS_HERE
#include "tachys_marks.h"
static pthread_mutex_t mutex;
uint32_t tachys_count(void) { struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint32_t)((uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec); }
uint32_t tachys_lock(void) { pthread_mutex_lock(&mutex); return 0; }
void tachys_restore(uint32_t m) { (void)m; pthread_mutex_unlock(&mutex); }
static void begin(void) { pthread_mutexattr_t a; pthread_mutexattr_init(&a);
    pthread_mutexattr_settype(&a, PTHREAD_MUTEX_RECURSIVE); pthread_mutex_init(&mutex, &a); tachys_start(); }
"""
DRAINED = (
    PORT
    + """
static volatile int busy = 3;
static void *work(void *which) { int i; for (i = 0; i < 4000; i++) {
    if (which == (void *)0) { TACHYS_ENTER(isr_a); TACHYS_VALUE(buffer_q, i); TACHYS_LEAVE(isr_a); }
    else if (which == (void *)1) { TACHYS_ENTER(isr_b); TACHYS_LEAVE(isr_b); }
    else { TACHYS_ENTER(isr_c); TACHYS_LEAVE(isr_c); }
    if (i % 64 == 0) { struct timespec t = {0, 200000}; nanosleep(&t, NULL); } }
    pthread_mutex_lock(&mutex); busy--; pthread_mutex_unlock(&mutex); return NULL; }
int main(void) { pthread_t t[3]; long i; uint8_t f[TACHYS_FRAME]; size_t n; int idle = 0; begin();
    for (i = 0; i < 3; i++) pthread_create(&t[i], NULL, work, (void *)i);
    while (idle < 400) { n = tachys_drain(f); fwrite(f, 1, n, stdout); if (n == 0 && busy == 0) {
        struct timespec w = {0, 100000}; idle++; nanosleep(&w, NULL); } }
    for (i = 0; i < 3; i++) pthread_join(t[i], NULL);
    return tachys_record.lost != 0; }
"""
)
KEPT = (
    PORT
    + """
int main(void) { int i; begin(); for (i = 0; i < 3000; i++) { TACHYS_ENTER(isr_c); TACHYS_VALUE(buffer_q, i); TACHYS_LEAVE(isr_c); }
    TACHYS_ENTER(isr_b); fwrite("before", 1, 6, stdout); fwrite(&tachys_record, sizeof tachys_record, 1, stdout); return 0; }
"""
)


def built(tmp_path, text, *flags):
    system = read_model(MODEL, "m.toml")
    (tmp_path / NAME).write_text(header(system, marks_of(system), 10**9, "m.toml"))
    (tmp_path / "main.c").write_text(text)
    out = tmp_path / "program"
    made = subprocess.run(
        [CC, *FLAGS, *flags, "main.c", "-o", str(out), "-lpthread"], cwd=tmp_path, capture_output=True, text=True
    )
    assert not made.returncode, made.stderr
    return out


def width_flags():
    if CC is None:
        return []
    asked = subprocess.run(
        [CC, "-m32", "-x", "c", "-", "-o", "/dev/null"],
        input=b"#include <stdio.h>\nint main(void){return 0;}",
        capture_output=True,
    )
    return [[], ["-m32"]] if not asked.returncode else [[]]


@pytest.mark.skipif(CC is None, reason="no C compiler")
@pytest.mark.parametrize("flags", width_flags(), ids=str)
def test_every_mark_arrives_or_is_counted_as_lost(tmp_path, flags):
    program = built(tmp_path, DRAINED, *flags)
    sent = subprocess.run([program], capture_output=True, check=False)
    stream = Stream(marks_of(read_model(MODEL, "m.toml")), "x")
    lines = [*stream.feed(sent.stdout), *stream.end()]
    assert not stream.told.broken
    waiting = sent.returncode  # those at the very end that were not told any more
    told = stream.told.marks + stream.told.lost
    assert told == 28000 or (waiting and told < 28000), stream.told
    times = [int(line.split(",")[0]) for line in lines if line[0].isdigit()]
    assert times == sorted(times)
    if not stream.told.lost:
        assert [line.rpartition("=")[2] for line in lines if ",buffer.q," in line] == list(map(str, range(4000)))
    capture = read_event_stream(["\n".join(lines).encode() + b"\n"], "x")
    assert capture.signals.keys() == {"isr.a", "isr.b", "isr.c", "buffer.q"}
    assert any("each mark takes" in remark for remark in capture.remarks)


@pytest.mark.skipif(CC is None, reason="no C compiler")
def test_the_last_marks_are_read_from_a_dump(tmp_path):
    memory = subprocess.run([built(tmp_path, KEPT, "-DTACHYS_KEEP_LAST")], capture_output=True, check=True).stdout
    marks = marks_of(read_model(MODEL, "m.toml"))
    lines = [line for line in dumped(memory, marks, "x") if line[0].isdigit()]
    assert lines[-1].endswith(",isr.b,enter")
    assert [line.split(",", 1)[1] for line in lines[-4:-1]] == ["isr.c,enter", "buffer.q,=2999", "isr.c,leave"]
    assert 380 < len(lines) <= 512
    with pytest.raises(InputError, match="ends within"):
        list(dumped(memory[:900], marks, "x"))
    with pytest.raises(InputError, match="no ring"):
        list(dumped(memory[12:], marks, "x"))


@pytest.mark.skipif(CC is None, reason="no C compiler")
def test_without_the_switch_nothing_is_left_of_a_mark(tmp_path):
    text = '#include "tachys_marks.h"\nint main(void) { TACHYS_ENTER(x); TACHYS_VALUE(x, 1); TACHYS_LEAVE(x); tachys_start(); return 0; }\n'
    built(tmp_path, text, "-UTACHYS_ON")


# --- a stream as the header sends it, and what may become of it on the way -------------------------------------------

MARKS = marks_of(read_model(MODEL, "m.toml"))
CODES = {mark.name: mark.code for mark in MARKS}


def sent(count, seed=1, first=0):
    """(bytes, [(time, code)]) of so many marks, with counts of one byte to four between them."""
    dice, told, now = random.Random(seed), [], first
    for place in range(count):
        now += dice.choice([3, 130, 5000, 70000, 0xC0 << 7 | 0xC0])
        told.append((now, CODES[("isr.a", "isr.b", "isr.c")[place // 2 % 3]] + place % 2))
    return b"".join(Sender(MARKS).frames((code, at) for at, code in told)), told


def read_back(data, pieces=1):
    stream = Stream(MARKS, "x")
    size = max(1, -(-len(data) // pieces))
    lines = [line for at in range(0, len(data), size) for line in stream.feed(data[at : at + size])]
    return stream, [*lines, *stream.end()]


def events(lines):
    names = {mark.code + side: f"{mark.name},{what}" for mark in MARKS for side, what in ((0, "enter"), (1, "leave"))}
    back = {text: code for code, text in names.items()}
    found = []
    for line in lines:
        time, _, rest = line.partition(",")
        if rest in back:
            found.append((int(time), back[rest]))
        elif rest == "gap":
            found.append("gap")
    return found


@pytest.mark.parametrize("pieces", [1, 7, 10**6])
def test_what_was_sent_is_read_whatever_the_pieces(pieces):
    data, told = sent(3000)
    stream, lines = read_back(data, pieces)
    first = told[0][0]
    begin = events(lines)[0][0] - first
    assert events(lines) == [(time + begin, code) for time, code in told]
    assert (stream.told.broken, stream.told.gaps, stream.told.marks) == (0, 0, 3000)


@pytest.mark.parametrize("how", ["lost", "doubled", "flipped", "cut"])
def test_a_fault_anywhere_is_a_gap_there_and_no_wrong_figure(how):
    dice = random.Random(how)
    for count, places in (
        (1500, [*range(260), *(dice.randrange(5000) for _ in range(150))]),
        (10_000, [*range(9000, 39_000, 997)]),
    ):
        data = sent(count)[0]
        fault_is_a_gap(how, dice, data, [place for place in places if place < len(data)])


def fault_is_a_gap(how, dice, data, places):
    whole = events(read_back(data)[1])
    for place in places:
        if how == "lost":
            broken = data[:place] + data[place + 1 :]
        elif how == "doubled":
            broken = data[: place + 1] + data[place:]
        elif how == "cut":
            broken = data[place:]
        else:
            broken = data[:place] + bytes([data[place] ^ 1 << dice.randrange(8)]) + data[place + 1 :]
        found = events(read_back(broken)[1])
        left = [each for each in found if each != "gap"]
        if left and left[:12] != whole[:12]:  # the beginning is missing: times count from what is first
            shift = whole[len(whole) - len(left)][0] - left[0][0]
            left = [(time + shift, code) for time, code in left]
        gaps = [at for at, each in enumerate(found) if each == "gap"]
        missing = len(whole) - len(left)
        assert missing <= 40 or how == "cut" or place < 30
        assert len(gaps) <= 1
        if not gaps:  # nothing is missing but at an end
            assert left in (whole[len(whole) - len(left) :], whole[: len(left)])
        else:
            at = gaps[0]
            assert left == whole[:at] + whole[at + missing :]


def test_a_board_that_begins_anew_is_a_gap_of_unknown_length():
    once, again = sent(200)[0], sent(100, seed=2)[0]
    _, lines = read_back(once + again)
    assert [each for each in events(lines) if each == "gap"] == ["gap"]
    assert any("begun anew" in line for line in lines)
    times = [each[0] for each in events(lines) if each != "gap"]
    assert times == sorted(times)


def test_time_goes_on_beyond_32_bits():
    data, told = sent(400, first=2**32 - 100_000)
    found = events(read_back(data)[1])
    assert [time - found[0][0] for time, _ in found] == [time - told[0][0] for time, _ in told]


def test_noise_and_other_firmware_are_told_in_one_line():
    dice = random.Random(3)
    with pytest.raises(InputError, match="no frame of marks"):
        list(event_lines([bytes(dice.randrange(256) for _ in range(20_000))], MARKS, "x"))
    with pytest.raises(InputError, match="not those of this model"):
        list(event_lines([sent(100)[0]], MARKS[:-1], "x"))


@pytest.mark.parametrize("count", [100, 5000])
def test_a_counter_that_stands_still_is_told(count):
    data = b"".join(Sender(MARKS).frames((CODES["isr.a"] + place % 2, 77) for place in range(count)))
    with pytest.raises(InputError, match="carry the same count: the counter stands still; start the timer"):
        list(event_lines([data], MARKS, "x"))


def test_what_the_marks_need_of_a_line():
    system = read_model(model_text(), "row_unit.toml")
    marks, paper = marks_of(system), bounds(system)
    rates = {each.mark.name: each.rate for each in markings(paper, marks)}
    assert rates["isr.seed"] == 8000  # twice a routine each 250 us
    few = markings(paper, marks_of(system, [each.name for each in marks if each.name != "isr.tick"]))
    # 2000 words and 12 for the time: a code and a byte of counts at least; 2^7 counts lie before 375 000 at most, 2^13
    # before 5859, 2^19 before 92
    words = float(rates["isr.tick"]) + 4 * 48_000_000 / 2**24
    counted = 4 * words + 48e6 / 2**19
    frames = counted / 96 + 16 * 48_000_000 / 2**24
    assert float(bytes_a_second(few, 48_000_000)) == pytest.approx(counted + frames * 26 * 65 / 64)
    assert to_leave_out(markings(paper, marks), 48_000_000, baud_needed(bytes_a_second(few, 48_000_000))) is not None


# --- the board that speaks, recorded --------------------------------------------------------------------------------

ROW = read_model(model_text() + '\n[marks]\ncost = "500 ns"\n', "row_unit.toml")
ROW_MARKS = marks_of(ROW)


def spoken(late, seconds=0.3):
    """(truth, arrivals, lines of a record) of one run of the board."""
    until = int(seconds * 10**12)
    plan, arrivals = board(late, random.Random(7), until, MARK * 10**12 // HERTZ)
    truth = Machine(plan, 7).run(until)
    data = b"".join(Sender(ROW_MARKS).frames(words_of(truth, ROW_MARKS)))
    return truth, arrivals, list(event_lines([data], ROW_MARKS, "x"))


def captured(lines):
    return read_event_stream(["\n".join(lines).encode() + b"\n"], "run.events")


@pytest.mark.parametrize("late", [False, True])
def test_marks_and_lines_of_one_run_tell_the_same(late):
    truth, arrivals, lines = spoken(late, 0.6)
    by_marks = check(ROW, captured(lines))
    shown = look(truth, arrivals)
    kept = {name: levels for name, levels in shown.levels.items() if name not in ("D0", "D2", "D5")}
    no_sources = replace(ROW, probes=tuple(probe for probe in ROW.probes if probe.signal in kept))
    by_lines = check(no_sources, read_vcd([to_vcd(replace(shown, levels=kept)).encode()], "b.vcd"))
    assert {n: (each.verdict) for n, each in by_marks.needs.items()} == {
        n: each.verdict for n, each in by_lines.needs.items()
    }
    assert {(each.code, each.about) for each in by_marks.findings} == {
        (each.code, each.about) for each in by_lines.findings
    }
    for name, runs in by_marks.isrs.items():
        real = [each.cost for each in truth.served if each.name == name]  # with both its marks
        assert abs(runs.cost.most - max(real)) <= 3 * by_marks.capture.resolution


@pytest.mark.parametrize(
    "system", [ROW, read_model(model_text(), "row.toml")], ids=["costs hold", "marks are left out"]
)
def test_what_was_held_off_beyond_its_bound_undoes_the_proofs_of_the_more_urgent_too(system):
    """Interrupts are held off for 200 us, which no line shows: a pulse of the wheel may have come meanwhile."""
    _, _, lines = spoken(True, 0.4)
    told = {name: need.verdict for name, need in check(system, captured(lines)).needs.items()}
    assert told.pop("pressure.deadline") is Verdict.MISSED
    assert set(told.values()) == {Verdict.AT_RISK}


def test_bounds_with_and_without_marks():
    bare = read_model(model_text(), "row_unit.toml")
    with_marks, without = bounds(ROW).isrs["wheel"].response.most, bounds(bare).isrs["wheel"].response.most
    assert with_marks - without == 2 * 500_000  # its own two marks: nothing is more urgent, nothing holds it off longer
    assert [each.cost.most - other.cost.most for each, other in zip(ROW.steps, bare.steps, strict=True)] == [10**6] * 5


def test_fit_writes_costs_without_the_marks():
    text = model_text() + '\n[marks]\ncost = "500 ns"\n'
    tight = text.replace('cost = ["6 us", "9 us"]', 'cost = ["6 us", "7 us"]', 1)
    assert tight != text
    result = check(read_model(tight, "m.toml"), captured(spoken(False)[2]))
    assert ("cost-longer", "isr.wheel") in {(each.code, each.about) for each in result.findings}
    fitted = read_model(fit(tight, "m.toml", [captured(spoken(False)[2])], "today").text, "m.toml")
    assert not check(fitted, captured(spoken(False)[2])).findings
    assert fitted.isr("wheel").cost_first.most < 8_700_000 + 10**6 + 100_000


def program(*words, cwd, **more):
    return subprocess.Popen(
        [sys.executable, "-m", "tachys", *words],
        cwd=cwd,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        **more,
    )


@pytest.mark.skipif(not hasattr(os, "openpty"), reason="no pseudo-terminals")
@pytest.mark.parametrize(("fault", "told"), [("lost", "found no room"), ("noise", "did not arrive whole")])
def test_a_record_from_a_port(tmp_path, fault, told):
    (tmp_path / "m.toml").write_text(model_text())
    handle, name = open_line()
    threading.Thread(target=speak, args=(handle, ROW_MARKS, fault, 25.0), daemon=True).start()
    out, err = program("record", "m.toml", name, "-o", "run.events.zst", "--for", "2 s", cwd=tmp_path).communicate(
        timeout=60
    )
    assert told in out, out + err
    capture = read_capture(tmp_path / "run.events.zst")
    assert capture.gaps
    assert capture.length > 1.5e12
    assert not check(ROW, capture).findings  # what is lost is no fault of the board


def test_what_ends_a_record_leaves_it_whole(tmp_path):
    _, _, lines = spoken(True)
    (tmp_path / "m.toml").write_text(model_text() + '\n[marks]\ncost = "500 ns"\n')
    data = b"".join(Sender(ROW_MARKS).frames(words_of(Machine(*_late()).run(3 * 10**11), ROW_MARKS)))
    (tmp_path / "s.bin").write_bytes(data)
    out, err = program("record", "m.toml", "s.bin", "-o", "a.events", cwd=tmp_path).communicate(timeout=60)
    assert (tmp_path / "a.events").read_text().splitlines() == lines, out + err
    run = program("record", "m.toml", "s.bin", "-o", "b.events", "--until-miss", cwd=tmp_path)
    out, err = run.communicate(timeout=60)
    assert (run.returncode, "missed: pressure.deadline" in out) == (1, True), out + err
    waits = program("record", "m.toml", "-", "-o", "c.events.zst", cwd=tmp_path, stdin=subprocess.PIPE)
    waits.stdin.buffer.write(data)
    waits.stdin.flush()
    part, until = tmp_path / "c.events.zst.part", time.monotonic() + 40
    while time.monotonic() < until and not (part.exists() and part.stat().st_size):
        time.sleep(0.1)
    time.sleep(1)
    waits.send_signal(signal.SIGTERM)
    waits.communicate(timeout=30)
    assert read_capture(tmp_path / "c.events.zst").signals.keys() == captured(lines).signals.keys()
    bad = program("record", "m.toml", "m.toml", "-o", "d.events", cwd=tmp_path)
    _, err = bad.communicate(timeout=60)
    assert (bad.returncode, err.count("\n"), (tmp_path / "d.events").exists()) == (2, 1, False), err
    assert not list(tmp_path.glob("*.part"))
    converted = program("convert", "s.bin", "e.vcd", "--marks", "m.toml", cwd=tmp_path)
    converted.communicate(timeout=60)
    assert read_capture(tmp_path / "e.vcd").signals.keys() == captured(lines).signals.keys()


def _late():
    plan, _ = board(True, random.Random(7), 3 * 10**11, MARK * 10**12 // HERTZ)
    return plan, 7


def test_what_begins_at_once_behind_the_first_end_does_not_come_before_the_record():
    lines = [
        "# counts = 1000000 Hz",
        "# mark = 9000 ns",
        "10,b,leave",
        "11,a,enter",
        "11,b,enter",
        "90,a,leave",
        "95,b,leave",
    ]
    capture = captured(lines)
    assert capture.begin == 5_500_000
    assert [int(at) for at in capture.signals["a"].at] == [5_500_000, 6_500_000, 94_500_000]
    assert all((signal.at[1:] > signal.at[:-1]).all() for signal in capture.signals.values())


def test_samples_of_a_few_pins(tmp_path):
    levels = [0, 0, 1, 1, 3, 2, 2, 0, 4, 0]
    stream = Samples(["a", "b", ""], 10_000)
    lines = [line for byte in levels for line in stream.feed(bytes([byte]))]
    assert lines[2:] == ["2,a,enter", "4,b,enter", "5,a,leave", "7,b,leave"]
    capture = captured(lines)
    assert [
        (int(at), int(level))
        for at, level in zip(capture.signals["a"].at[1:], capture.signals["a"].value[1:], strict=True)
    ] == [(2 * 10**8, 1), (5 * 10**8, 0)]
    with pytest.raises(InputError, match="8 bits"):
        Samples(["a", "a"], 1)


def test_a_socket_that_closes_is_opened_again():
    server = socket.create_server(("127.0.0.1", 0))
    source = open_source(f"127.0.0.1:{server.getsockname()[1]}", 1, None)
    got = b""
    for part in (b"one", b"two"):
        connection, _ = server.accept()
        connection.sendall(part)
        connection.close()
        until = time.monotonic() + 10
        while part not in got and time.monotonic() < until:
            got += source.read()
    source.close()
    server.close()
    assert got == b"onetwo"
    with pytest.raises(InputError, match="cannot be opened"):
        open_source("127.0.0.1:1", 1, None)


SENDER = """
import os, sys, time
from select import select
line, piece = int(sys.argv[1]), bytes(range(200)) * 10
os.set_blocking(line, False)
for number in range(150):
    time.sleep(0.01)
    data = piece
    until = time.monotonic() + 0.05
    while data and time.monotonic() < until:
        if select([], [line], [], 0.05)[1]:
            data = data[os.write(line, data):]
"""


def test_a_port_loses_nothing_while_its_reader_is_busy():
    """A port holds 4 kB, a check keeps the interpreter for longer; 200 kB/s come meanwhile."""
    board_side, name = open_line()
    source = open_source(name, 2_000_000, None)
    sender = subprocess.Popen([sys.executable, "-c", SENDER, str(board_side)], pass_fds=[board_side])
    while sender.poll() is None:
        sum(range(30_000_000))  # nobody else's turn until it is done
    got, silent = 0, 0
    while silent < 5:
        piece = source.read()
        got, silent = got + len(piece), 0 if piece else silent + 1
    source.close()
    os.close(board_side)
    assert got == 150 * 2000


def dump(words):
    head = struct.pack("<8s10I", b"TACHYS\r\n", FORMAT, digest(MARKS), 64, 24, 10**9, 5000, 1, len(words), 0, 0)
    return b"before" + head + struct.pack("<64I", *words, *[0] * (64 - len(words))) + b"behind"


def test_dumps_in_any_form_and_damaged_anywhere():
    dice, now, words = random.Random(2), 0, []
    for place in range(60):
        now += dice.choice([5, 5000, 500_000])
        words.append(CODES["isr.a"] + place % 2 << 24 | now & 0xFFFFFF)
    memory, records = dump(words), BinFile()
    records.add_binary(dump(words), address=0x2000_0000)
    told = list(marked_lines([memory], MARKS, "x"))
    assert len(events(told)) == 60
    for text in (records.as_srec(), records.as_ihex()):
        assert list(marked_lines([text.encode()], MARKS, "x")) == told
    for seed in range(300):
        dice, broken = random.Random(seed), bytearray(dice.choice([memory, records.as_srec().encode()]))
        for _ in range(dice.randrange(1, 5)):
            broken[dice.randrange(60 if dice.random() < 0.5 else len(broken))] = dice.randrange(256)
        try:
            capture = captured(list(marked_lines([bytes(broken[: dice.choice([len(broken), 90])])], MARKS, "x")))
        except InputError as error:
            told = error.problems
        else:
            assert all((signal.at[1:] > signal.at[:-1]).all() for signal in capture.signals.values())
        assert len(told) >= 1


WITHIN = """
tachys = 1
[core]
clock = "16 MHz"
[source.t]
every = "1 ms"
[isr.t]
on = "source.t"
cost = "20 us"
moments = { early = "5 us", late = "15 us" }
nth = { n = 4, first = 4, cost = "2 us" }
[marks]
cost = ["0.5 us", "1 us"]
"""


def test_marks_of_events_within_a_routine_are_in_its_figures():
    """Each moment and the end of each n-th run has a mark too, unless that is left out: 0 to 1 us more, which come
    before what lies behind them, and the count is read within them."""
    isr = read_model(WITHIN, "m.toml").isr("t")
    us = 10**6
    assert dict(isr.moments) == {"early": Range(5 * us + us // 2, 7 * us), "late": Range(15 * us + us // 2, 18 * us)}
    assert isr.cost_first == Range(21 * us, 24 * us)  # two of its own, and those of the moments
    assert isr.nth.cost == Range(2 * us, 3 * us)


@pytest.mark.parametrize("mark", [600_000, 900_000])
def test_a_stream_with_marks_within_routines_is_not_blamed_and_a_fit_writes_figures_without_them(mark):
    us, lines = 10**6, ["# unit = 1 ps", f"# mark = {mark} ps"]
    for k in range(400):
        at, long, stamp = (k + 1) * 1000 * us, k % 4 == 3, mark // 2
        told = [(stamp, "isr.t,enter"), (mark + 5 * us + stamp, "isr.t.early,mark")]
        told.append((2 * mark + 15 * us + stamp, "isr.t.late,mark"))
        last = (20 + 2 * long) * us + 3 * mark
        told += [(last + stamp, "isr.t.nth,mark")] * long + [(last + mark * long + stamp, "isr.t,leave")]
        lines += [f"{at + after},{what}" for after, what in told]
    capture = read_event_stream(["\n".join(lines).encode()], "marks.events")
    assert check(read_model(WITHIN, "m.toml"), capture).findings == ()
    wrong = WITHIN.replace('late = "15 us"', 'late = "12 us"').replace('cost = "2 us"', 'cost = "1 ns"')
    assert {each.about for each in check(read_model(wrong, "m.toml"), capture).findings} == {"isr.t"}
    text = fit(wrong, "m.toml", [capture], "today").text
    assert check(read_model(text, "m.toml"), capture).findings == ()
    late = dict(read_model(text.partition("[marks]")[0], "m.toml").isr("t").moments)["late"]
    assert 12 * us == late.least < 15 * us <= late.most <= 15 * us + 2 * mark
