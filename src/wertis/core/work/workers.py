"""How many processes of this machine help, and fit into its memory."""

import os
import re
from pathlib import Path

_START = 220 << 20  # bytes that a process takes before it has seen a picture, libraries and all
_PER_PIXEL = 150  # bytes for each pixel of a plate's picture: what is read ahead, made and written at the same time
_FREE = 0.75  # of what is free that is taken where nobody says how much


def free_memory() -> int:
    """Bytes of memory that can be taken without pushing anything out; what the kernel says is available (/proc/meminfo), else 2 GB."""
    try:
        found = re.search(r"^MemAvailable:\s+(\d+) kB", Path("/proc/meminfo").read_text(), re.MULTILINE)
    except OSError:
        found = None
    return int(found[1]) << 10 if found else 2 << 30


def usual_workers(pixels: int, budget: int | None = None, cores: int | None = None) -> int:
    """How many processes are worth starting, 1 at least.

    Parameters
    ----------
    pixels : of the largest plate's picture.
    budget : bytes of memory that all of them may take together; three quarters of what is free when None.
    cores : of the processor; those that this process may use when None.
    """
    cores = len(os.sched_getaffinity(0)) if cores is None else cores
    budget = int(_FREE * free_memory()) if budget is None else budget
    return max(1, min(cores, budget // (_START + _PER_PIXEL * pixels)))
