"""What programs and notebooks call: typed, in picoseconds, and wrong arguments are told in words.

Every function here raises :class:`tachys.errors.InputError` where an argument is not what it should be.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Literal, TypeVar

from msgspec.structs import replace

from tachys.capture import inspecting, reading
from tachys.capture.csv import CsvShape
from tachys.capture.inspecting import Lines
from tachys.capture.table import Capture
from tachys.checking.checking import check as _check
from tachys.checking.out.explaining import Explained, explain_finding, explain_need
from tachys.checking.result import CheckResult
from tachys.errors import InputError as InputError
from tachys.errors import did_you_mean, input_error
from tachys.files import read_text
from tachys.model.loading import LARGEST_MODEL, ModelText
from tachys.model.loading import load_model as _load_model
from tachys.model.quantities import parse_duration
from tachys.model.system import System
from tachys.simulation.options import Arrivals, Costs, Phases, RunOptions
from tachys.simulation.result import Simulated
from tachys.worstcase.analysis import bounds as _bounds
from tachys.worstcase.bounds import Bounds

if TYPE_CHECKING:
    from tachys.checking.correct.fitting import Fitted
    from tachys.checking.probes.misbound import Binding
    from tachys.trying.comparing import Comparison
    from tachys.trying.headroom import Headroom
    from tachys.trying.points import Model
    from tachys.trying.priorities import Priorities
    from tachys.trying.sweeping import Sweep

Time = int | str  # picoseconds, or text such as "20 us"
Form = Literal["png", "svg", "pdf"]
_Wanted = TypeVar("_Wanted")


def _expect(call: str, name: str, given: object, wanted: type[_Wanted], words: str) -> _Wanted:
    if not isinstance(given, wanted):
        raise input_error(f"{call}()", f"{name} is {_shown(given)}", words, key=name)
    return given


def _shown(given: object) -> str:
    text = repr(given)
    return f"{type(given).__name__} {text if len(text) <= 40 else text[:37] + '...'}"


def _path(call: str, name: str, given: object, what: str) -> str:
    if isinstance(given, (str, Path)):
        return str(given)
    raise input_error(f"{call}()", f"{name} is {_shown(given)}", f"the path of a {what} is due", key=name)


def _system(call: str, given: object) -> System:
    return _expect(call, "system", given, System, "a System is due: tachys.load_model(path) makes one")


def _capture(call: str, given: object) -> Capture:
    return _expect(call, "capture", given, Capture, "a Capture is due: tachys.read_capture(path) makes one")


def _picoseconds(call: str, name: str, given: object) -> int:
    """A time in ps."""
    if isinstance(given, int) and not isinstance(given, bool):
        return given
    if isinstance(given, str):
        try:
            duration = parse_duration(given)
        except ValueError as error:
            wrong, _, mend = str(error).partition("; ")
            raise input_error(f"{call}()", wrong, mend, key=name) from None
        if duration.clock is None:
            return int(duration.amount)
    raise input_error(
        f"{call}()", f"{name} is {_shown(given)}", 'picoseconds, or text such as "20 us", are due', key=name
    )


def _count(call: str, name: str, given: object, least: int) -> int:
    if isinstance(given, int) and not isinstance(given, bool) and given >= least:
        return given
    raise input_error(f"{call}()", f"{name} is {_shown(given)}", f"a whole number from {least} on is due", key=name)


def load_model(
    path: str | Path, variant: str | Sequence[str] | None = None, settings: Sequence[str] = (), *,
    costs: str | Path | None = None,
) -> System:  # fmt: skip
    """Read a model file, with variants of it laid over it in order, and settings such as "core.clock=24 MHz" last.

    ``costs``: a CSV file of the times of a build, as "isr.tick,4.1 us,4.25 us", over the variants.
    """
    times = None if costs is None else _path("load_model", "costs", costs, "file of costs")
    return _load_model(_path("load_model", "path", path, "model"), variant, settings, times)


def bounds(system: System) -> Bounds:
    """The worst and best cases of everything in a system, and what they prove of its needs."""
    return _bounds(_system("bounds", system))


def simulate(
    system: System,
    length: Time,
    *,
    runs: int = 1,
    seed: int = 1,
    bodies: Costs = "drawn",
    phases: Phases = "drawn",
    arrivals: Arrivals = "mean",
    bounds: Bounds | None = None,
) -> Simulated:
    """Play a model for a time, ``runs`` times with seeds that follow each other; see :class:`RunOptions`."""
    from tachys.simulation.running import simulate as play

    end = _picoseconds("simulate", "length", length)
    if end <= 0:
        raise input_error("simulate()", f"length is {_shown(length)}", "a time above zero is due", key="length")
    ways = RunOptions(
        _one_of("simulate", "bodies", bodies, Costs), _one_of("simulate", "phases", phases, Phases),
        _one_of("simulate", "arrivals", arrivals, Arrivals), seed=_count("simulate", "seed", seed, 0),
    )  # fmt: skip
    return play(_system("simulate", system), end, ways, runs=_count("simulate", "runs", runs, 1), bounds=bounds)


def _one_of(call: str, name: str, given: _Wanted, allowed: object) -> _Wanted:
    words = [str(each) for each in getattr(allowed, "__args__", ())]
    if given not in words:
        raise input_error(f"{call}()", f"{name} is {_shown(given)}", did_you_mean(str(given), words, name), key=name)
    return given


def read_capture(
    path: str | Path,
    *,
    time_unit: str | None = None,
    separator: str | None = None,
    strict: bool = False,
    step: Time | None = None,
) -> Capture:
    """Read a VCD, a CSV, an event stream or Parquet; what it is, is told by its content.

    ``step``: the analyser's sampling step, where the file does not show it.
    """
    shape = CsvShape(separator, time_unit)
    read = reading.read_capture(_path("read_capture", "path", path, "capture"), shape, strict=strict)
    return read if step is None else replace(read, resolution=_picoseconds("read_capture", "step", step))


def inspect(capture: Capture, *, begin: Time | None = None, end: Time | None = None, narrow: int = 2) -> Lines:
    """What each line of a capture does; a pulse of at most ``narrow`` samples is called a glitch."""
    first, last = (
        None if time is None else _picoseconds("inspect", name, time) for name, time in (("begin", begin), ("end", end))
    )
    part = inspecting.window(_capture("inspect", capture), first, last)
    return Lines(inspecting.inspect(part, _count("inspect", "narrow", narrow, 0)))


def check(system: System, capture: Capture, bounds: Bounds | None = None) -> CheckResult:
    """Hold a capture against a model: what was measured, does it agree, which need is met, who made it late."""
    return _check(_system("check", system), _capture("check", capture), bounds)


def probes(system: System, capture: Capture, bounds: Bounds | None = None) -> Binding:
    """Which line of a capture shows what of a model, how sure that is, and what is wrong with its probes."""
    from tachys.checking.probes.plausible import binding_of

    given = _system("probes", system)
    return binding_of(bounds or _bounds(given), _capture("probes", capture))


def explain(result: CheckResult, what: int | str = 1, at: Time | None = None) -> Explained:
    """One finding by its number, or the worst miss of a need by its name, taken apart; ``at``: the one nearest."""
    found = _expect("explain", "result", result, CheckResult, "what tachys.check() returns is due")
    moment = None if at is None else _picoseconds("explain", "at", at)
    if isinstance(what, str) and what in found.needs:
        try:
            return explain_need(found, what, moment)
        except LookupError:
            raise input_error("explain()", f"nothing was seen of {what}", "name another need", key="what") from None
    if isinstance(what, int) and 1 <= what <= len(found.findings):
        return explain_finding(found, what)
    known = [*found.needs, *(str(number + 1) for number in range(len(found.findings)))]
    mend = did_you_mean(str(what), known, "need or finding")
    raise input_error("explain()", f"what is {_shown(what)}", mend, key="what")


def fit(path: str | Path, captures: Sequence[Capture], *, margin: float = 0.0, tighten: bool = False) -> Fitted:
    """The text of a model file with the figures that captures refute put right; nothing is written."""
    from tachys.checking.correct.fitting import fit as write

    file = _path("fit", "path", path, "model")
    given = [captures] if isinstance(captures, Capture) else list(captures)
    if not given:
        raise input_error("fit()", "captures is empty", "at least one capture is due", key="captures")
    read = [_capture("fit", each) for each in given]
    text = read_text(file, "model", LARGEST_MODEL)
    return write(text, file, read, date.today().isoformat(), margin=Fraction(margin), tighten=tighten)


def draw(what: System | Bounds | Capture | CheckResult, *, form: Form = "png", length: Time = "20 ms") -> bytes:
    """A picture: of a model as it is played, of a capture as it is, or of a check around its worst moment."""
    _one_of("draw", "form", form, Form)
    if isinstance(what, CheckResult):
        from tachys.drawing.figure import draw_scenes
        from tachys.drawing.scene import scene_of_capture, worst_moment

        return draw_scenes([scene_of_capture(what, worst_moment(what))], form)
    if isinstance(what, Capture):
        from tachys.drawing.waveform import draw_waveform

        return draw_waveform(what, (), form)
    from tachys.drawing.figure import draw_scenes
    from tachys.drawing.moment import play_moment
    from tachys.drawing.scene import scene_of_played

    if not isinstance(what, Bounds):
        words = "a System, Bounds, a Capture or the result of a check is due"
        what = _bounds(_expect("draw", "what", what, System, words))
    played = play_moment(what, RunOptions(), _picoseconds("draw", "length", length))
    return draw_scenes([scene_of_played(played)], form)


def compare(
    path: str | Path,
    *,
    variants: Sequence[str] = (),
    settings: Sequence[str] = (),
    captures: Sequence[Capture] = (),
    play: Time | None = None,
) -> Comparison:
    """A model as it stands, each of its variants, and settings over the last of them, side by side."""
    from tachys.trying.comparing import columns_of
    from tachys.trying.comparing import compare as put

    text = ModelText.load(_path("compare", "path", path, "model"))
    read = [_capture("compare", each) for each in captures]
    return put(columns_of(text, variants, settings, read, _length("compare", play)))


def sweep(
    path: str | Path, over: str | Sequence[str], *, variants: Sequence[str] = (), settings: Sequence[str] = (),
    play: Time | None = None,
) -> Sweep:  # fmt: skip
    """One or two keys of a model moved, as "source.sample.every=10 us..100 us/20": what it comes to at each point."""
    from tachys.trying.amounts import read_range
    from tachys.trying.sweeping import sweep as move

    given = [over] if isinstance(over, str) else list(over)
    if not 1 <= len(given) <= 2:
        raise input_error("sweep()", f"over has {len(given)} keys", "one or two are moved at once", key="over")
    try:
        ranges = [read_range(each) for each in given]
    except ValueError as error:
        wrong, _, mend = str(error).partition("; ")
        raise input_error("sweep()", wrong, mend, key="over") from None
    return move(_points("sweep", path, variants, settings, play), ranges)


def headroom(path: str | Path, *keys: str, variants: Sequence[str] = (), settings: Sequence[str] = ()) -> Headroom:
    """How far each figure of a model, or those whose keys are given, can move alone before a need falls."""
    from tachys.trying.headroom import headroom_of

    return headroom_of(_points("headroom", path, variants, settings, None), keys)


def priorities(system: System, *, most_room: bool = False) -> Priorities:
    """Levels and orders with which every need holds, with few changes; or why there are none."""
    from tachys.trying.priorities import priorities_of

    return priorities_of(_system("priorities", system), most_room=most_room)


def _points(call: str, path: object, variants: Sequence[str], settings: Sequence[str], play: Time | None) -> Model:
    from tachys.trying.points import Model

    file = _path(call, "path", path, "model")
    return Model.load(file, variants, settings, _length(call, play))


def _length(call: str, play: Time | None) -> int | None:
    return None if play is None else _picoseconds(call, "play", play)
