"""A choice of places spread over a surface."""

import numpy as np


def in_turn(order: np.ndarray, worth: np.ndarray, parts: np.ndarray, limit: int, put_off: float) -> np.ndarray:
    """Up to `limit` of the indices in `order` (n,), the most worth first, taken in turn from all parts (K,) of the surface.

    A poor one of an empty part must not displace a rich one: its turn is put off by `put_off` times its poverty, the richest one's worth over its own.
    """
    if not len(order):
        return order
    # how many of its own part come before each
    rank = np.empty(len(order), int)
    part = parts[order]
    by_part = np.argsort(part, kind="stable")
    sizes = np.bincount(part)
    rank[by_part] = np.arange(len(order)) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    poverty = np.minimum(worth[order[0]] / np.maximum(worth[order], 1e-6), 1e4)
    return np.asarray(order[np.argsort(rank + put_off * poverty, kind="stable")[:limit]])
