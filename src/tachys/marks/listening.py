"""Where bytes of a stream come from: a serial port, a socket, a pipe or a file; one that goes away is asked again."""

from __future__ import annotations

import os
import re
import signal
import socket
import stat
import time
from collections.abc import Callable
from contextlib import suppress
from multiprocessing import get_context, parent_process
from multiprocessing.connection import Connection
from queue import Empty, Full, Queue
from threading import Thread
from typing import Any, BinaryIO, Protocol

from tachys.errors import InputError, input_error

PIECE = 1 << 16
WAIT = 0.05  # s: how long a read waits for something to come
HELD = 20_000  # pieces that are read ahead; a source that can wait does then
TOGETHER = 200  # of them, handed over in one go
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
    if _is_socket(name):
        return Apart(name, baud)
    try:
        is_port = stat.S_ISCHR(os.stat(name).st_mode) if os.name == "posix" else name.upper().startswith("COM")
        return Apart(name, baud) if is_port else _Pipe(os.open(name, os.O_RDONLY), name)
    except OSError as error:
        raise input_error(name, f"cannot be read: {error.strerror}", "name a port, HOST:PORT, a file or -") from None


def _is_socket(name: str) -> bool:
    return _SOCKET.fullmatch(name) is not None and not os.path.exists(name)


def _opener(name: str, baud: int) -> Callable[[], Any]:
    if not _is_socket(name):
        return lambda: _port(name, baud)
    host, port = name.split(":")
    return lambda: _Socket(socket.create_connection((host, int(port)), timeout=5))


class Apart:
    """A source that is opened and read by a process of its own: a port holds little, and who takes the bytes is busy.

    Raises:
        InputError: it cannot be opened.
    """

    def __init__(self, name: str, baud: int) -> None:
        context = get_context("spawn")
        self._pieces, far_end = context.Pipe(duplex=False)
        self._reader = context.Process(target=_pass_on, args=(name, baud, far_end), daemon=True)
        self._reader.start()
        far_end.close()
        try:
            problems = self._pieces.recv()
        except EOFError:
            raise input_error(name, "cannot be opened: its reader ended at once", "try again") from None
        if problems:
            raise InputError(problems)

    def read(self) -> bytes | None:
        """As of every source."""
        try:
            return self._pieces.recv_bytes() if self._pieces.poll(WAIT) else b""
        except EOFError:
            return None

    def close(self) -> None:
        """As of every source."""
        self._pieces.close()
        self._reader.terminate()
        self._reader.join()


def _pass_on(name: str, baud: int, pieces: Connection) -> None:
    """What the process does until nobody wants the pieces any more. Ctrl-C is for who records."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        source = _Asked(name, _opener(name, baud))
    except InputError as error:
        pieces.send(error.problems)
        return
    pieces.send(())
    held = Queue[bytes](HELD)
    taker = Thread(target=_hand_over, args=(held, pieces), daemon=True)
    taker.start()
    parent = parent_process()
    while taker.is_alive() and parent is not None and parent.is_alive():
        piece = source.read()
        while piece and taker.is_alive():
            with suppress(Full):
                held.put(piece, timeout=WAIT)
                break


def _hand_over(held: Queue[bytes], pieces: Connection) -> None:
    with suppress(OSError):
        while True:
            parts = [held.get()]
            with suppress(Empty):
                while len(parts) < TOGETHER:
                    parts.append(held.get_nowait())
            pieces.send_bytes(b"".join(parts))


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
