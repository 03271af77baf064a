"""Work spread over the cores of this machine or over a cluster: results in the order of the items, some ahead of it.

A job is a function of a module, of a text that all items share, and of an item. For a cluster items are texts and
numbers too, so that no object of ours has to be taken apart elsewhere; what it gives back may be one.
"""

from __future__ import annotations

import os
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from contextlib import closing, suppress
from itertools import islice, takewhile
from typing import Any, Protocol, TypeVar

from msgspec import Struct

from tachys import __version__
from tachys.errors import InputError, InternalError, input_error

Item = TypeVar("Item")
Result = TypeVar("Result")
Job = Callable[[str, Item], Result]
Part = list[Any]

AHEAD = 4  # parts a worker that are handed out before they are asked for
AS_MUCH = 4  # as many small items go to a worker of a cluster at a time: each part takes some 5 ms on the way
AHEAD_THERE = 32  # the same of a cluster, which collects messages for 10 ms
PATIENCE = 4  # s until a cluster has answered
DEATHS = 3  # processes that may die on the same part
LOCAL = "local:"


class Workers(Struct, frozen=True):
    """Who works: so many processes here (None: one a core), or a cluster: its ADDRESS, or ``local:2``, started here."""

    count: int | None = None
    cluster: str = ""

    @property
    def here(self) -> int:
        """How many processes work on this machine."""
        return (os.cpu_count() or 1) if self.count is None else self.count


EACH_CORE = Workers()


def spread(
    job: Job[Item, Result], shared: str, items: Iterable[Item], workers: Workers, *, chunk: int = 1
) -> Iterator[Result]:
    """What a job makes of each item, in their order; ``chunk`` items go to a worker at a time.

    Fewer than four chunks are not worth the start of processes. A worker that dies is replaced, and its part is done
    again.

    Raises:
        InputError: there is no such cluster, or its workers have another version; what a job raises.
    """
    left = iter(items)
    if workers.cluster:
        chunk *= 1 if chunk == 1 else AS_MUCH
    else:
        first = list(islice(left, 4 * chunk))
        if workers.here < 2 or len(first) < 4 * chunk:
            yield from (job(shared, item) for source in (first, left) for item in source)
            return
        left = (item for source in (first, left) for item in source)
    from concurrent.futures import BrokenExecutor

    parts = iter(lambda: list(islice(left, chunk)), [])
    pool: _Pool = _Cluster(workers.cluster) if workers.cluster else _Processes(workers.here)
    with closing(pool):
        waiting: deque[tuple[Part, Any]] = deque()
        deaths = 0
        while True:
            while len(waiting) < pool.ahead and (part := next(parts, None)) is not None:
                waiting.append((part, pool.submit(job, shared, part)))
            if not waiting:
                return
            try:
                done = pool.results([future for _, future in waiting])
            except BrokenExecutor:
                deaths += 1
                if deaths >= DEATHS:
                    raise InternalError(f"{deaths} processes died at one piece of work: no memory left?") from None
                pool.renew()
                waiting = deque((part, pool.submit(job, shared, part)) for part, _ in waiting)
                continue
            deaths = 0
            for results in done:
                waiting.popleft()
                yield from results


def with_progress(results: Iterable[Result], count: int, told: Callable[[float], object] | None) -> Iterator[Result]:
    """The same, of which there are so many; ``told`` hears what share of them is there."""
    for number, result in enumerate(results, 1):
        yield result
        if told is not None:
            told(number / count)


def do_part(version: str, job: Job[Any, Any], shared: str, part: Part) -> Part:
    """What a worker does.

    Raises:
        InputError: it has another version than who asks.
    """
    if version != __version__:
        raise _other_version({__version__}, version)
    return [job(shared, item) for item in part]


class _Pool(Protocol):
    @property
    def ahead(self) -> int:
        """How many parts are handed out at a time."""

    def submit(self, job: Job[Any, Any], shared: str, part: Part) -> Any:
        """Hand a part out."""

    def results(self, futures: list[Any]) -> list[Part]:
        """What became of the first of them, and of those behind it that are done too."""

    def renew(self) -> None:
        """Begin again, without what is waiting."""

    def close(self) -> None:
        """Let go of all, also of what was not done."""


class _Processes:
    def __init__(self, count: int) -> None:
        self._count, self.ahead = count, AHEAD * count
        self.renew()

    def submit(self, job: Job[Any, Any], shared: str, part: Part) -> Any:
        return self._pool.submit(do_part, __version__, job, shared, part)

    def results(self, futures: list[Any]) -> list[Part]:
        return [futures[0].result()]

    def renew(self) -> None:
        from concurrent.futures import ProcessPoolExecutor
        from multiprocessing import get_context

        # they begin as copies where they can: they have nothing to load then
        context = get_context("fork" if sys.platform == "linux" else "spawn")
        self._pool = ProcessPoolExecutor(self._count, context, _stopped_by_the_first)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)


def _stopped_by_the_first() -> None:
    import signal

    signal.signal(signal.SIGINT, signal.SIG_IGN)


class _Cluster:
    """A cluster of Dask."""

    def __init__(self, address: str) -> None:
        import logging
        import socket

        try:
            import dask
            from distributed import Client, KilledWorker, LocalCluster, wait
        except ImportError:
            raise input_error(address, "nothing here speaks to a cluster", "pip install tachys[cluster]") from None
        for name in ("distributed", "tornado", "asyncio"):  # what goes wrong is told here, in one line
            logging.getLogger(name).setLevel(logging.CRITICAL)
        self._address, self._killed, self._wait, self._own = address, KilledWorker, wait, None
        if address.startswith(LOCAL):
            dask.config.set({"distributed.worker.profile.enabled": False})  # nobody looks at it
            self._own = LocalCluster(n_workers=_count_of(address), threads_per_worker=1, dashboard_address=None)
        try:
            if self._own is None:  # a client that finds nobody complains for long
                host, _, port = address.rpartition("//")[2].rpartition(":")
                socket.create_connection((host, int(port)), timeout=PATIENCE).close()
            self._client = Client(self._own or address, timeout=PATIENCE)
        except (OSError, ValueError):
            mend = "start one: dask scheduler, and dask worker ADDRESS (docs/scale.md)"
            raise input_error(address, "there is no cluster", mend) from None
        self._look_at_the_workers()

    def _look_at_the_workers(self) -> None:
        with suppress(TimeoutError):
            self._client.wait_for_workers(1, timeout=PATIENCE)
        workers = self._client.get_versions(packages=["tachys"])["workers"].values()
        theirs = {str((each or {}).get("packages", {}).get("tachys")) for each in workers}
        if theirs != {__version__}:
            self.close()
            if not theirs:
                raise input_error(self._address, "has no workers", f"start one: dask worker {self._address}")
            raise _other_version(theirs - {__version__}, __version__)
        self.ahead = max(8, AHEAD_THERE * sum(self._client.nthreads().values()))

    def submit(self, job: Job[Any, Any], shared: str, part: Part) -> Any:
        return self._client.submit(do_part, __version__, job, shared, part, pure=False)

    def results(self, futures: list[Any]) -> list[Part]:
        try:
            self._wait([futures[0]])
            ready = list(takewhile(lambda future: future.done(), futures))
            found: list[Part] = self._client.gather(ready)  # each by itself would take 5 ms
        except InputError:
            raise
        except self._killed:
            raise input_error(self._address, "several workers died at one piece of work", "have they memory?") from None
        except Exception as error:
            if type(error).__module__.partition(".")[0] not in ("distributed", "tornado", "concurrent", "asyncio"):
                raise
            raise input_error(self._address, "the cluster has gone away", "start it and this again") from None
        return found

    def renew(self) -> None:
        raise InternalError("a cluster replaces its workers itself")

    def close(self) -> None:
        with suppress(Exception):
            self._client.close(timeout=1)
        if self._own is not None:
            self._own.close(timeout=1)


def _count_of(address: str) -> int:
    count = address.removeprefix(LOCAL)
    if not count.isdigit() or not 0 < int(count) <= 256:
        raise input_error(address, "is no number of workers", "write local:2 for two that are started here")
    return int(count)


def _other_version(theirs: set[str], ours: str) -> InputError:
    told = "no tachys" if theirs == {"None"} else f"tachys {' and '.join(sorted(theirs))}"
    return input_error("--cluster", f"its workers have {told}, and this is {ours}", "install the same everywhere")
