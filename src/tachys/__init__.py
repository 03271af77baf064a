"""Tachys: will every interrupt meet its time limit, and does the board agree?

Data flows one way: the text of a model becomes a System (``model``); bounds, a simulation and captures are worked out
from it and from the board (``bounds``, ``simulation``, ``capture``); ``check`` holds them side by side; ``draw`` and
``cli`` show the result. Nothing below ``cli`` prints.

>>> system = tachys.load_model("row_unit.toml")
>>> tachys.bounds(system).isrs["wheel"].latency.most
>>> tachys.simulate(system, 2 * 10**12).stats("isr.wheel.latency").most
>>> tachys.check(system, tachys.read_capture("faulty.vcd")).findings
"""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, which takes a while to load: an interrupt would end in its midst
if TYPE_CHECKING:
    from typing import Any

__version__ = "0.1.0"
__all__ = ["bounds", "check", "load_model", "read_capture", "simulate"]


def __getattr__(name: str) -> Any:
    """The public names, loaded when they are first asked for."""
    import importlib

    if name == "load_model":
        return importlib.import_module("tachys.model.loading").load_model
    if name == "read_capture":
        return importlib.import_module("tachys.capture.reading").read_capture
    if name == "simulate":
        return importlib.import_module("tachys.simulation.running").simulate
    if name in ("bounds", "check"):
        return importlib.import_module(f"tachys.{name}")
    raise AttributeError(f"module 'tachys' has no attribute {name!r}")
