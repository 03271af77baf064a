"""Packages that can be called: ``tachys.bounds`` is a package, and ``tachys.bounds(system)`` its main function.

A package and a function of one name would otherwise hide each other, depending on what was imported first.
"""

from __future__ import annotations

import importlib
import sys
from types import ModuleType
from typing import Any


def make_callable(package: str, module: str, function: str) -> None:
    """Let ``package(...)`` call ``function`` of ``module``, which is imported at the first call."""

    class CallablePackage(ModuleType):
        """A package whose call is forwarded."""

        def __call__(self, *arguments: Any, **named: Any) -> Any:
            return getattr(importlib.import_module(module), function)(*arguments, **named)

    sys.modules[package].__class__ = CallablePackage
