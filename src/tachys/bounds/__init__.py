"""Worst and best cases on paper: arrival curves, busy windows, load, needs. ``tachys.bounds(system)`` gives all."""

from tachys.callable_package import make_callable

make_callable(__name__, "tachys.bounds.analysis", "bounds")
