"""The linear algebra library's threads: one while Wertis works.

The matrices are small, so that more threads only get in each other's way, and how sums are parted among threads would show in the last bits.
"""

import ctypes
import importlib
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from importlib.machinery import EXTENSION_SUFFIXES
from pathlib import Path
from typing import Any

import scipy

_lock = threading.Lock()
_users = 0
_limits: Any = None


@contextmanager
def single_threaded() -> Iterator[None]:
    """While the block runs, here or in another thread, linear algebra uses one thread; what was set before is set again after the last block."""
    global _users, _limits
    from threadpoolctl import threadpool_limits  # looks through all libraries that are loaded

    with _lock:
        if _users == 0:
            _open_scipys_library()
            _limits = threadpool_limits(1, user_api="blas")
        _users += 1
    try:
        yield
    finally:
        with _lock:
            _users -= 1
            if _users == 0:
                _limits.restore_original_limits()


@cache
def _open_scipys_library() -> None:
    """Load the library that SciPy's linear algebra uses, which has threads of its own, before they are limited.

    SciPy itself loads it when something is first used, which may be inside the block, and takes twenty times as long over it.
    """
    folder = Path(scipy.__file__).parent / "linalg"
    path = next((p for ending in EXTENSION_SUFFIXES if (p := folder / f"_fblas{ending}").exists()), None)
    try:
        if path is not None:
            ctypes.CDLL(str(path))
            return
    except OSError:
        pass
    importlib.import_module("scipy.linalg")  # a SciPy that is built otherwise
