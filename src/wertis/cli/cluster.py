"""Options of work that is shared out among processes, here or on many machines."""

import argparse
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING

from wertis.core.errors import WertisError

if TYPE_CHECKING:
    from wertis.scripting.cluster import Cluster


def add_cluster(parser: argparse.ArgumentParser, chunks: bool = False) -> None:
    """The options; `chunks` for work whose frames are shared out."""
    parser.add_argument("--cluster", metavar="ADDRESS", default="", help="a Dask scheduler (tcp://host:port), or its scheduler file, whose workers do it")
    parser.add_argument("--map", dest="folders", action="append", default=[], metavar="HERE=THERE",
                        help="with --cluster: a folder that all machines share, as it is called here and there; may be repeated")
    if chunks:
        parser.add_argument("--chunk", type=int, metavar="N", help="frames that a worker is given at a time (default: 8)")


def cluster_of(address: str, workers: int, folders: Sequence[str], chunk: int | None = None) -> "AbstractContextManager[Cluster | None]":
    """The cluster that was asked for; none where there is neither an address nor several workers."""
    if not address and workers < 2:
        return nullcontext()
    from wertis.scripting.cluster import CHUNK, Cluster

    pairs = []
    for words in folders:
        here, found, there = words.partition("=")
        if not found or not here or not there:
            raise WertisError(f"--map {words} is no pair of folders; write it as /here=/there.")
        pairs.append((here, there))
    return Cluster(address, workers, pairs, chunk or CHUNK)
