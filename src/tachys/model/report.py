"""Where problems and remarks go while a model is read."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct, field

from tachys.errors import Place, Remark

Path = tuple[str, ...]


class Reporter(Struct):
    """Collects what is wrong (``complain``: where, what is wrong, what would be right) and what is worth a look."""

    complain: Callable[[Path, str, str], None]
    place: Callable[[Path], Place]
    remarks: list[Remark] = field(default_factory=list)

    def note(self, path: Path, code: str, text: str, mend: str) -> None:
        """A warning that goes with the System."""
        self.remarks.append(Remark(self.place(path), code, ".".join(path), text, mend))
