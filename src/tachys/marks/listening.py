"""Where bytes of a stream come from: a serial port, a socket, a pipe or a file; one that goes away is asked again."""

from __future__ import annotations

import os
import re
import socket
import stat
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from queue import Empty, Full, Queue
from threading import Thread
from typing import Any, BinaryIO, Protocol

from tachys.errors import InputError, input_error

PIECE = 1 << 16
WAIT = 0.05  # s: how long a read waits for something to come
SWITCH = 0.0002  # s: a port that is full loses what comes, and each read waits for this thread's turn several times
HELD = 2000  # pieces that are read ahead
AGAIN = 0.5  # s between two attempts to open what has gone
_SOCKET = re.compile(r"([^:/\\\s]+):(\d{1,5})")


class Incoming(Protocol):
    """Bytes as they come."""

    def read(self) -> bytes | None:
        """What has come, perhaps nothing yet; None: no more will come."""

    def close(self) -> None:
        """Let go of it."""


def open_source(name: str, baud: int, stdin: BinaryIO) -> Incoming:
    """The source of that name: ``-``, a serial port, ``HOST:PORT`` or a file; ``baud`` counts for a port alone.

    Raises:
        InputError: there is no such source, it cannot be opened, or what reads a port is not installed.
    """
    if name == "-":
        return _Pipe(stdin.fileno(), name)
    found = _SOCKET.fullmatch(name)
    if found is not None and not os.path.exists(name):
        address = found.group(1), int(found.group(2))
        return _Asked(name, lambda: _Socket(socket.create_connection(address, timeout=5)))
    try:
        is_port = stat.S_ISCHR(os.stat(name).st_mode) if os.name == "posix" else name.upper().startswith("COM")
        return _Asked(name, lambda: _port(name, baud)) if is_port else _Pipe(os.open(name, os.O_RDONLY), name)
    except OSError as error:
        raise input_error(name, f"cannot be read: {error.strerror}", "name a port, HOST:PORT, a file or -") from None


class Ahead:
    """A source that is read by a thread of its own: a port holds little, and who takes the bytes may be busy.

    So much is held at most; a source that can wait does.
    """

    def __init__(self, source: Incoming) -> None:
        self._source, self._held = source, Queue[bytes | BaseException | None](HELD)
        self._over = False
        sys.setswitchinterval(SWITCH)
        Thread(target=self._pull, daemon=True).start()

    def read(self) -> bytes | None:
        """As of every source.

        Raises:
            InputError: what reading raised.
        """
        try:
            piece = self._held.get(timeout=WAIT)
        except Empty:
            return b""
        if isinstance(piece, BaseException):
            raise piece
        return piece

    def close(self) -> None:
        """As of every source."""
        self._over = True

    def _pull(self) -> None:
        piece: bytes | BaseException | None = b""
        while piece is not None and not isinstance(piece, BaseException) and not self._over:
            try:
                piece = self._source.read()
            except InputError as error:
                piece = error
            while piece != b"" and not self._over:
                with suppress(Full):
                    self._held.put(piece, timeout=WAIT)
                    break
        self._source.close()


class _Pipe:
    """A file, or a pipe that may be silent for long."""

    def __init__(self, handle: int, name: str) -> None:
        self._handle, self._name = handle, name

    def read(self) -> bytes | None:
        """As of every source."""
        from select import select

        if os.name == "posix" and not select([self._handle], [], [], WAIT)[0]:
            return b""
        try:
            return os.read(self._handle, PIECE) or None
        except OSError as error:
            raise input_error(self._name, f"cannot be read: {error.strerror}", "name a file or a pipe") from None

    def close(self) -> None:
        """As of every source."""
        if self._handle > 2:
            os.close(self._handle)


class _Socket:
    def __init__(self, connection: socket.socket) -> None:
        self._connection = connection
        connection.settimeout(WAIT)

    def read(self) -> bytes:
        """What has come; an end is an error, as of a port."""
        try:
            piece = self._connection.recv(PIECE)
        except TimeoutError:
            return b""
        if not piece:
            raise ConnectionError("closed by the other side")
        return piece

    def close(self) -> None:
        """Let go of it."""
        self._connection.close()


class _Asked:
    """A source that is opened anew whenever it goes away; what opens it at first must be there."""

    def __init__(self, name: str, opened: Callable[[], Any]) -> None:
        self._opened, self._tried = opened, 0.0
        try:
            self._open: Any = opened()
        except (OSError, ValueError) as error:
            raise input_error(name, f"cannot be opened: {error}", "is it plugged in, and nobody else's?") from None

    def read(self) -> bytes:
        """As of every source."""
        try:
            if self._open is None:
                if time.monotonic() - self._tried < AGAIN:
                    time.sleep(WAIT)
                    return b""
                self._tried = time.monotonic()
                self._open = self._opened()
            found: bytes = self._open.read()
            return found
        except OSError:
            self.close()
            return b""

    def close(self) -> None:
        """As of every source."""
        if self._open is not None:
            self._open.close()
        self._open = None


class _Port:
    def __init__(self, port: Any) -> None:
        self._port = port

    def read(self) -> bytes:
        """What has come."""
        found: bytes = self._port.read(max(1, min(PIECE, self._port.in_waiting)))
        return found

    def close(self) -> None:
        """Let go of it."""
        self._port.close()


def _port(name: str, baud: int) -> _Port:
    try:
        from serial import Serial
    except ImportError:
        raise input_error(name, "nothing here reads a serial port", "pip install tachys[record]") from None
    return _Port(Serial(name, baud, timeout=WAIT))
