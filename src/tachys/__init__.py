"""Tachys: will every interrupt meet its time limit, and does the board agree?

Data flows one way: the text of a model becomes a System (``model``); bounds, a simulation and captures are worked out
from it and from the board (``worstcase``, ``simulation``, ``capture``); ``checking`` holds them side by side;
``drawing`` and ``cli`` show the result. Nothing below ``cli`` prints.

Times are given and taken in picoseconds, or as text with a unit; ``.seconds`` has them as floats.

>>> import tachys
>>> system = tachys.load_model("row_unit.toml")
>>> paper = tachys.bounds(system)
>>> paper.isrs["wheel"].latency.most
22333351
>>> paper.isrs["wheel"].latency.seconds.most
2.2333351e-05
>>> played = tachys.simulate(system, "200 ms", seed=1)
>>> played.stats("isr.wheel.latency").most <= paper.isrs["wheel"].latency.most
True
>>> found = tachys.check(system, tachys.read_capture("faulty.vcd"))
>>> found.findings[0].about, found.findings[0].code
('step.log', 'guard-longer')
>>> found.needs["release"].verdict
<Verdict.MISSED: 'missed'>
"""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, which takes a while to load: an interrupt would end in its midst
if TYPE_CHECKING:
    from tachys.api import (
        bounds,
        check,
        compare,
        draw,
        explain,
        fit,
        headroom,
        inspect,
        load_model,
        priorities,
        probes,
        read_capture,
        simulate,
        sweep,
    )
    from tachys.errors import InputError

__version__ = "0.1.0"
__all__ = [
    "InputError",
    "bounds",
    "check",
    "compare",
    "draw",
    "explain",
    "fit",
    "headroom",
    "inspect",
    "load_model",
    "priorities",
    "probes",
    "read_capture",
    "simulate",
    "sweep",
]


def __getattr__(name: str) -> object:
    """The public names, loaded when the first of them is asked for."""
    if name not in __all__:
        raise AttributeError(f"module 'tachys' has no attribute {name!r}")
    from tachys import api

    return getattr(api, name)


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__", "__doc__"])
