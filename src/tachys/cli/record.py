"""``tachys record``: marks from the board as they come, into a capture."""

from __future__ import annotations

import signal
import sys
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.cli.capturing import packet_options
from tachys.cli.modelling import Changes, model_options
from tachys.cli.parameters import RATE, TIME

if TYPE_CHECKING:
    from tachys.capture.packets import PacketShape
    from tachys.marks.listening import Incoming
    from tachys.marks.samples import Samples
    from tachys.marks.stream import Stream

BAUD = 115_200


@click.command("record")
@click.argument("model", type=click.Path())
@click.argument("source", metavar="PORT|HOST:PORT|FILE|-")
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True, metavar="OUT.events",
              help="What is written; .zst behind it: packed. Packets under any name.")  # fmt: skip
@click.option("--baud", type=click.IntRange(min=1), default=BAUD, show_default=True, help="Rate of a serial port.")
@click.option("--for", "length", type=TIME, help="End once so much time is recorded.")
@click.option("--until-miss", is_flag=True, help="End once a need is missed, and keep the 2 s before.")
@click.option("--live", is_flag=True, help="Show levels, rates and what needs say of the last 2 s.")
@click.option("--bits", metavar="D0,D1,…", help="What comes are samples, a byte each: what its bits are, lowest first.")
@click.option("--rate", type=RATE, help="Of these samples.")
@click.option("--without", multiple=True, metavar="NAME", help="As the header was made.")
@packet_options
@model_options
def record_command(
    model: str, source: str, output: Path, baud: int, length: Fraction | None, until_miss: bool, live: bool,
    bits: str | None, rate: Fraction | None, without: tuple[str, ...], packets: PacketShape | None, changes: Changes,
) -> int:  # fmt: skip
    """Record the marks that a board with the header of MODEL sends, until Ctrl-C or the end of a file.

    What is lost on the way is a gap in the record where it was lost. A port that goes away is opened again. With --bits
    it sends samples of a few pins, of which nothing says whether one was lost; with --trace-clock trace packets of the
    core, which are kept as they come: every command reads them so.
    """
    from tachys.cli.live import View
    from tachys.cli.output import console
    from tachys.marks.codes import marks_of
    from tachys.marks.listening import open_source
    from tachys.marks.recording import LastSeconds, Writer, recorded
    from tachys.marks.samples import Samples
    from tachys.marks.stream import Stream, nobody_speaks
    from tachys.worstcase.analysis import bounds

    if packets is None and not output.name.endswith((".events", ".events.zst")):
        raise click.UsageError(f"{output.name}: a record ends with .events or .events.zst; tachys convert makes others")
    if (bits is None) != (rate is None) or (rate is not None and rate.denominator != 1):
        raise click.UsageError('samples have both names and a rate of whole Hz: --bits D0,D1 --rate "10 kHz"')
    if packets is not None and (bits is not None or live or until_miss):
        raise click.UsageError("packets are read once the record ends: --live, --until-miss and --bits are of marks")
    system = changes.load(model)
    if packets is not None:
        return _record_packets(model, open_source(source, baud, sys.stdin.buffer), output, packets, length)
    stream: Stream | Samples = Stream(marks_of(system, without), source)
    if bits is not None and rate is not None:
        stream = Samples([name.strip() for name in bits.split(",")], int(rate))
    last = LastSeconds(stream, system, bounds(system)) if live or until_miss else None
    opened = open_source(source, baud, sys.stdin.buffer)
    view, writer = View(stream, source, last, live=live, ends=until_miss), Writer(output)

    def take(lines: list[str]) -> bool:
        missed = view.take(lines)
        if not until_miss:
            writer.write(lines)
        return not missed

    signal.signal(signal.SIGTERM, signal.default_int_handler)  # ends it like Ctrl-C: what was recorded is whole
    try:
        with view.shown(console(error=True)):
            try:
                recorded(opened.read, stream, take, None if length is None else float(length))
            except KeyboardInterrupt:
                take(list(stream.end()))
        if stream.speaker is None:
            raise nobody_speaks(stream.told, source)
        if last is not None and until_miss:
            if not last.missed:
                last.look()
            writer.write(last.text)
    finally:
        opened.close()
        writer.close(keep=stream.speaker is not None)
    _tell(stream, str(output), model)
    missed = () if last is None else last.missed
    if until_miss:
        _say_missed(missed)
    return int(until_miss and bool(missed))


def _record_packets(model: str, opened: Incoming, output: Path, packets: PacketShape, length: Fraction | None) -> int:
    """Keep the packets as they come, and say what they tell: nothing of them is lost in another form."""
    from tachys.capture.opening import pieces
    from tachys.capture.packets import read_packets
    from tachys.cli.output import say
    from tachys.marks.recording import kept_bytes
    from tachys.words import count_text, time_text

    signal.signal(signal.SIGTERM, signal.default_int_handler)
    size = kept_bytes(opened, output, None if length is None else float(length))
    capture = read_packets(pieces(output), str(output), packets)
    told = f"{time_text(capture.length)}, {count_text(len(capture.signals), 'signal')}"
    say(f"{output}: {count_text(size, 'byte')} of packets, {told}", *capture.remarks)
    stream = "" if packets.stream is None else f" --trace-stream {packets.stream}"
    say(f'Next: tachys check {model} {output} --trace-clock "{float(packets.hertz):.12g} Hz"{stream}')
    return 0


def _tell(stream: Stream | Samples, output: str, model: str) -> None:
    from tachys.cli.output import say
    from tachys.model.quantities import PS_PER_SECOND
    from tachys.words import count_text, time_text

    told, speaker = stream.told, stream.speaker
    assert speaker is not None
    mark = time_text(int(speaker.cost * PS_PER_SECOND / speaker.hertz))
    what = f"{count_text(told.marks, 'mark')}, each takes {mark}" if speaker.bits else count_text(told.marks, "change")
    say(f"{output}: {stream.seconds:.1f} s, {what}")
    if told.lost:
        say(f"{count_text(told.lost, 'mark')} found no room in the ring: drain it more often, or give it more words.")
    if told.broken:
        say(f"{count_text(told.broken, 'frame')} did not arrive whole: each is a gap in the record.")
    say(f"Next: tachys check {model} {output}")


def _say_missed(missed: tuple[str, ...]) -> None:
    from tachys.cli.output import say

    say(f"missed: {', '.join(missed)}" if missed else "No need was missed; the last 2 s are in it.")
