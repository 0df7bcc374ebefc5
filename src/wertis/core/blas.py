"""The linear algebra library's threads: one while Wertis works.

The matrices are small, so that more threads only get in each other's way, and how sums are parted among threads would show in the last bits.
"""

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

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
            _limits = threadpool_limits(1, user_api="blas")
        _users += 1
    try:
        yield
    finally:
        with _lock:
            _users -= 1
            if _users == 0:
                _limits.restore_original_limits()
