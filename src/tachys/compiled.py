"""Numba's compiler, the one way to it; loaded without SciPy's linear algebra, for which nothing here has a use.

Numba asks for that as it loads, which takes longer than all of our own modules. Where it is loaded already it stays.
"""

from __future__ import annotations

import sys
from importlib import import_module
from typing import Any

_LEFT_OUT = "scipy.linalg"

if _LEFT_OUT in sys.modules:
    from numba import njit
else:
    _kept: Any = sys.modules
    _kept[_LEFT_OUT] = None  # an import of it fails, as if it were not installed
    try:
        from numba import njit

        import_module("numba.np.arraymath")  # what asks for it
    finally:
        del _kept[_LEFT_OUT]

__all__ = ["njit"]
