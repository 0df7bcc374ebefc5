"""Work shared out among processes, here or on many machines, by Dask (dask.distributed): renders in parts, and lists of shots.

A frame is a function of the shot alone, and its file takes its name when it is whole; so frames may be made anywhere, in any order, and again by another
process when one was killed, and the files are the same bits.
"""

from __future__ import annotations

import logging
import os
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from functools import lru_cache
from importlib.metadata import version
from pathlib import Path
from typing import Any, Literal

import wertis
from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.errors import WertisError
from wertis.core.files import clear_leftovers
from wertis.core.imaging.parallel import use_threads
from wertis.core.jobs.events import Counter, Event
from wertis.core.jobs.render import MOVIES, check_target, frame_path
from wertis.core.shot import store
from wertis.core.shot.document import Shot as Document

CHUNK = 8
"""Frames that a worker is given at a time: what it costs to hand them out is little beside making them."""
_DEATHS = 1000  # of workers, that a task may live through: a queue preempts many over a long render
_PATIENCE = 20  # seconds in which a scheduler must answer

Mapping = Sequence[tuple[str, str]]
"""Pairs of folders: as they are called here, and on the workers."""


class Cluster:
    """Processes that work for us; to be used as a context.

    Parameters
    ----------
    address : of a scheduler (tcp://host:port), or a scheduler file; empty to start one here.
    workers : how many processes are started here, when there is no address.
    folders : how folders that all machines share are called here and there.
    chunk : frames that a worker is given at a time; more for many workers and quick frames (docs/many-machines.md).

    Raises
    ------
    WertisError
        When Dask is not installed, the scheduler does not answer, or a worker has another version of Wertis.
    """

    def __init__(self, address: str = "", workers: int = 2, folders: Mapping = (), chunk: int = CHUNK) -> None:
        try:
            import dask
            import distributed
        except ImportError as why:
            raise WertisError("Sharing work out needs Dask; install it with: pip install 'wertis[cluster]'.") from why
        self._folders, self.chunk = tuple(folders), max(1, chunk)
        self._library = distributed
        self._own: Any = None
        self._settings = ExitStack()
        self._settings.enter_context(dask.config.set({"distributed.scheduler.allowed-failures": _DEATHS,
                                                      "distributed.comm.timeouts.connect": f"{_PATIENCE}s"}))
        try:
            if address:
                where = {"scheduler_file": address} if Path(address).is_file() else {"address": address}
                self.client = distributed.Client(**where, timeout=f"{_PATIENCE}s")
            else:
                self._own = distributed.LocalCluster(n_workers=max(1, workers), threads_per_worker=1, processes=True, dashboard_address=None,
                                                     silence_logs=logging.CRITICAL)
                self.client = distributed.Client(self._own)
        except (OSError, ValueError, TimeoutError) as why:
            self._settings.close()
            raise WertisError(f"The scheduler at {address or 'this machine'} does not answer ({why or type(why).__name__}); check its address, and "
                              "that it runs.") from why
        try:
            self._same_version()
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> Cluster:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Leave the scheduler, or end the one that was started here."""
        self.client.close()
        if self._own is not None:
            self._own.close()
        self._settings.close()

    def _same_version(self) -> None:
        """Refuse workers with another version: their frames would differ."""
        self.client.wait_for_workers(1, timeout=_PATIENCE)
        for name, theirs in self.client.run(_version).items():
            if theirs != version("wertis"):
                raise WertisError(f"The worker {name} has Wertis {theirs}, and this is {version('wertis')}; install the same version there, or leave it "
                                  "out.")

    def there(self, path: str | Path) -> str:
        """A path as the workers call it."""
        whole = str(Path(path).absolute())
        for here, theirs in self._folders:
            if whole == here or whole.startswith(here.rstrip("/") + "/"):
                return theirs.rstrip("/") + whole[len(here.rstrip("/")):]
        return whole

    def imap_unordered(self, work: Any, arguments: Sequence[tuple[Any, ...]]) -> Iterator[tuple[Any, ...]]:
        """Call a function once for each tuple of arguments; the tuple and the result, as they come. A call whose worker was killed is made by another.

        Raises
        ------
        WertisError
            What a call raised.
        """
        coming = {self.client.submit(work, *each, pure=False): each for each in arguments}
        try:
            for future, result in self._library.as_completed(list(coming), with_results=True):
                if isinstance(result, _Failed):
                    raise WertisError(result.words)
                yield coming[future], result
        finally:
            self.client.cancel(list(coming))


class _Failed:
    """An error of Wertis' own, in words: its kind need not be known on both sides."""

    def __init__(self, words: str) -> None:
        self.words = words


def _version() -> str:
    return version("wertis")


def render_on_cluster(cluster: Cluster, document: Document, pattern: str, frames: Sequence[int], what: Literal["comp", "graphic"] = "comp",
                    resume: bool = False) -> Iterator[Event]:
    """Render a sequence's frames by the processes of a cluster; an event for each frame, whose note says why it was left out.

    Raises
    ------
    WertisError
        For a movie, which is one file; when a file cannot be written, or the plate cannot be read there.
    """
    check_target(pattern)
    if Path(pattern).suffix.lower() in MOVIES:
        raise WertisError("A movie is one file and is rendered by one process; render a sequence in parts, or the movie without workers.")
    count = Counter(len(frames))
    chunks = [tuple(frames[k:k + cluster.chunk]) for k in range(0, len(frames), cluster.chunk)]
    with tempfile.TemporaryDirectory(prefix=".wertis-", dir=Path(pattern).absolute().parent) as name:
        shared = Path(name) / "shot.wertis"  # beside the pictures, where all machines can read it
        store.save(document, shared)
        calls = [(cluster.there(shared), cluster.there(pattern), chunk, what, resume) for chunk in chunks]
        for (_, _, chunk, *_), left in cluster.imap_unordered(_rendered, calls):
            for frame in chunk:
                yield count.event(frame, note=left.get(frame, ""))
    clear_leftovers(frame_path(pattern, frame) for frame in frames)


def _rendered(shot: str, pattern: str, frames: tuple[int, ...], what: str, resume: bool) -> dict[int, str] | _Failed:
    """On a worker: render frames; which were left out, and why."""
    use_threads(1)  # there are as many processes as help
    try:
        return _opened(shot, os.stat(shot).st_mtime_ns).render(pattern, what, frames, resume)  # type: ignore[arg-type]
    except OSError as why:
        return _Failed(f"{shot} cannot be read on the worker ({why.strerror or why}); is the folder shared, and called the same there (--map)?")
    except WertisError as why:
        return _Failed(str(why))


@lru_cache(maxsize=1)
def _opened(shot: str, stamp: int) -> wertis.Shot:
    """A shot that stays open from one chunk to the next."""
    return wertis.open(shot)


def shots_on_cluster(cluster: Cluster, path: Path, names: Sequence[str]) -> Iterator[str]:
    """Do shots of a list of work by the processes of a cluster; their names as they are done. What came of each stands in the list's folder."""
    for (_, name), _ in cluster.imap_unordered(_shot_done, [(cluster.there(path), name) for name in names]):
        yield name


def _shot_done(path: str, name: str) -> str | _Failed:
    """On a worker: do one shot of a list."""
    from wertis.scripting.work import run_one

    use_threads(1)
    try:
        run_one(Path(path), name)
    except WertisError as why:
        return _Failed(str(why))
    return name
