"""Loops over pixels in C, for those few that a tracked frame waits for; each has a twin in NumPy or a library, which is used where no compiler was.

They are compiled when Wertis is installed (setup.py) and called through ctypes, which lets other threads go on meanwhile.
"""

import ctypes
import os
from importlib.machinery import EXTENSION_SUFFIXES
from pathlib import Path

import numpy as np


def _at(name: str) -> ctypes.CDLL | None:
    for ending in EXTENSION_SUFFIXES:
        path = Path(__file__).with_name(name + ending)
        if path.exists():
            try:
                return ctypes.CDLL(str(path))
            except OSError:  # made for another machine
                return None
    return None


def _loaded() -> ctypes.CDLL | None:
    plain = None if os.environ.get("WERTIS_PLAIN_LOOPS") else _at("_tiles")
    if plain is None:
        return None
    level = plain.processor_level()
    wider = (_at(f"_tiles_{k}") for k in (4, 3) if k <= level)
    return next((found for found in wider if found is not None), plain)


LIBRARY = _loaded()
"""The compiled functions; None where they could not be compiled, or WERTIS_PLAIN_LOOPS is set."""

double, long = ctypes.c_double, ctypes.c_long

MOST_PIXELS, MOST_COLUMNS = 1024, 32  # of a tile, as in tiles.c


def address(array: np.ndarray | None, dtype: type) -> ctypes.c_void_p:
    """Where an array's numbers begin; the array must be of that kind, without gaps, and outlive the call. None gives a null pointer."""
    if array is None:
        return ctypes.c_void_p(None)
    if array.dtype != dtype or not array.flags.c_contiguous:
        raise TypeError(f"The compiled loops need contiguous {np.dtype(dtype).name}, not {array.dtype} of shape {array.shape}.")
    return ctypes.c_void_p(array.__array_interface__["data"][0])  # quicker than `array.ctypes`, which makes an object of its own
