"""Processes that share work, here or on many machines, by Dask (dask.distributed); what is shared out is in `parts`."""

from __future__ import annotations

import logging
import os
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from importlib.metadata import version
from pathlib import Path
from typing import Any

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.errors import WertisError
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
        # workers that watch themselves a hundred times a second, and give memory back at once that the next frame wants again, are a fifth slower
        self._settings.enter_context(dask.config.set({"distributed.worker.profile.enabled": False,
                                                      "distributed.nanny.pre-spawn-environ.MALLOC_TRIM_THRESHOLD_": None,
                                                      "distributed.scheduler.allowed-failures": _DEATHS,
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

    @contextmanager
    def shared(self, document: Document, *folders: Path) -> Iterator[str]:
        """A shot as a file that the workers can open, as they call it: in the first of some folders that can be written to, else in the system's."""
        beside = next((f for f in folders if f.is_dir() and os.access(f, os.W_OK)), None)
        with tempfile.TemporaryDirectory(prefix=".wertis-", dir=beside) as name:
            path = Path(name) / "shot.wertis"
            store.save(document, path)
            yield self.there(path)

    def chunks(self, frames: Sequence[int]) -> list[tuple[int, ...]]:
        """Frames in parts, of which a worker is given one at a time."""
        return [tuple(frames[k:k + self.chunk]) for k in range(0, len(frames), self.chunk)]

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
                if isinstance(result, Failed):
                    raise WertisError(result.words)
                yield coming[future], result
        finally:
            self.client.cancel(list(coming))


class Failed:
    """An error of Wertis' own, in words: its kind need not be known on both sides."""

    def __init__(self, words: str) -> None:
        self.words = words


def _version() -> str:
    return version("wertis")
