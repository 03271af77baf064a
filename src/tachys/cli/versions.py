"""What this runs on, for who asks for help: ``tachys --version -v``."""

from __future__ import annotations

import platform
from collections.abc import Iterator
from importlib.metadata import PackageNotFoundError, version

PACKAGES = ("numpy", "numba", "llvmlite", "scipy", "pydantic", "msgspec", "click", "rich", "matplotlib")
EXTRAS = {"pyarrow": "parquet", "pandas": "frames", "pyserial": "record", "bincopy": "record", "distributed": "cluster"}


def lines() -> Iterator[str]:
    """Python and packages with their versions, the extras that are not there, and whether the engine is compiled."""
    from tachys.warming import is_done

    yield f"Python {platform.python_version()} on {platform.system()} {platform.machine()}"
    yield ", ".join(f"{name} {version(name)}" for name in PACKAGES)
    there = {name: found for name in EXTRAS if (found := _found(name))}
    yield "extras: " + (", ".join(f"{name} {found}" for name, found in there.items()) or "none")
    missing = dict.fromkeys(extra for name, extra in EXTRAS.items() if name not in there)
    if missing:
        yield f"without: pip install tachys[{','.join(missing)}]"
    yield (
        "the engine is compiled"
        if is_done()
        else "the engine is not compiled yet: tachys --warm, or the next long play"
    )


def _found(name: str) -> str:
    try:
        return version(name)
    except PackageNotFoundError:
        return ""
