"""Which line of a TOML text a key stands on, so that an error can point at it.

Works on text that a TOML parser has already accepted, so it need not judge, only find.
"""

from __future__ import annotations

import re

KeyPath = tuple[str, ...]
_BARE = re.compile(r"[A-Za-z0-9_-]+")


def key_lines(text: str) -> dict[KeyPath, int]:
    """The line (from 1) of every table and key of a valid TOML text, inline tables and dotted keys included."""
    return _Finder(text).run()


class _Finder:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.lines: dict[KeyPath, int] = {}
        self._breaks = [match.start() for match in re.finditer("\n", text)]

    def run(self) -> dict[KeyPath, int]:
        table: KeyPath = ()
        while self._skip_blank():
            if self.text[self.at] == "[":
                self.at += 1 + self.text.startswith("[[", self.at)
                table = self._key(())
                while self.at < len(self.text) and self.text[self.at] in " \t]":
                    self.at += 1
            else:
                self._pair(table)
        return self.lines

    def _line(self) -> int:
        import bisect

        return bisect.bisect_left(self._breaks, self.at) + 1

    def _skip_blank(self) -> bool:
        """Move past white space, commas and comments; False at the end of the text."""
        while self.at < len(self.text):
            if self.text[self.at] == "#":
                end = self.text.find("\n", self.at)
                self.at = len(self.text) if end < 0 else end
            elif self.text[self.at] in " \t\r\n,":
                self.at += 1
            else:
                return True
        return False

    def _key(self, table: KeyPath) -> KeyPath:
        """Read a dotted key and note the line of each of its parts."""
        path = table
        while True:
            while self.text[self.at] in " \t":
                self.at += 1
            if self.text[self.at] in "\"'":
                start = self.at + 1
                self._string()
                part = self.text[start : self.at - 1]
            else:
                match = _BARE.match(self.text, self.at)
                if match is None:
                    return path
                part, self.at = match.group(), match.end()
            path = (*path, part)
            self.lines.setdefault(path, self._line())
            while self.at < len(self.text) and self.text[self.at] in " \t":
                self.at += 1
            if self.at >= len(self.text) or self.text[self.at] != ".":
                return path
            self.at += 1

    def _pair(self, table: KeyPath) -> None:
        path = self._key(table)
        equals = self.text.find("=", self.at)
        if equals < 0:
            self.at = len(self.text)
            return
        self.at = equals + 1
        self._value(path)

    def _value(self, path: KeyPath) -> None:
        self._skip_blank()
        first = self.text[self.at]
        if first in "\"'":
            self._string()
        elif first == "{":
            self.at += 1
            while self._skip_blank() and self.text[self.at] != "}":
                self._pair(path)
            self.at += 1
        elif first == "[":
            self.at += 1
            index = 0
            while self._skip_blank() and self.text[self.at] != "]":
                self.lines.setdefault((*path, str(index)), self._line())
                self._value((*path, str(index)))
                index += 1
            self.at += 1
        else:
            while self.at < len(self.text) and self.text[self.at] not in ",]}\n#":
                self.at += 1

    def _string(self) -> None:
        quote = self.text[self.at]
        fence = quote * 3 if self.text.startswith(quote * 3, self.at) else quote
        self.at += len(fence)
        while not self.text.startswith(fence, self.at) and self.at < len(self.text):
            self.at += 2 if quote == '"' and self.text[self.at] == "\\" else 1
        self.at += len(fence)
        while len(fence) == 3 and self.text.startswith(quote, self.at):
            self.at += 1
