"""Which of two sides places across an outline look like: that of the figure, or of what lies behind it.

What the figure showed there on frames on which its outline is known tells it, and what would be seen there without the figure. Where one of those is
not known, the colours do that surely lie on that side round about (Y. Boykov and M. Jolly, Interactive graph cuts for optimal boundary and region
segmentation of objects in N-D images, 2001), by the nearest of them (J. Wang and M. Cohen, Optimized color sampling for robust matting, 2007).
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

_DIFFERENT = 3.5  # times the usual difference between a side and itself from which something else is seen
_MOST_COST = 4.0  # of one place that differs, so that no single one decides
_LEAST_DIFFERENCE = 2.0  # on a scale of 0..255, that is always reckoned with
_ROWS = 8  # of places along the outline, to both sides, whose colours count as round about
_EACH = 3  # of their samples across it, one of so many
_FEWEST = 20  # samples of a side, with which its colours are known
_AT_A_TIME = 32  # rows, for memory's sake


@dataclass(frozen=True)
class Side:
    """What is known of one side of the edge, for n places along the outline and S across it.

    Attributes
    ----------
    colours : (n, S, 3) float32, 0..255, what would be seen there if that side were.
    known : (n, S) bool, where that is known.
    usual : (n, S) bool, where that side is surely seen, by which it is told how far it usually differs from itself.
    samples : (n, S) bool, where what is seen is surely that side's.
    """

    colours: np.ndarray
    known: np.ndarray
    usual: np.ndarray
    samples: np.ndarray


def costs(seen: np.ndarray, across: np.ndarray, figure: Side, background: Side, local_colours: bool) -> tuple[np.ndarray, np.ndarray]:
    """(n, S) how much more what is seen (n, S, 3) at places differs from the figure than from the background, by what is known of both; and the same
    with local colours, of places round about, where one of them is not known, if that is wanted. Positive where it is the background.

    Parameters
    ----------
    across : (S,) pixels from the outline, outwards positive.
    """
    unlike = [_unlike(seen, side) for side in (figure, background)]
    by_figure, by_background = unlike[0][0], unlike[1][0]
    one = np.where(figure.known, by_figure - 1, np.where(background.known, 1 - by_background, 0))
    told = np.where(figure.known & background.known, by_figure - by_background, one)
    if not local_colours:
        return told, told
    near, enough = zip(*(_unlike_local_colours(seen, side, own, usual)
                         for side, own, (_, usual) in zip((figure, background), (across <= 0, across >= 0), unlike, strict=True)), strict=True)
    both = (figure.known | enough[0][:, None]) & (background.known | enough[1][:, None])
    apart = np.where(figure.known, by_figure, near[0]) - np.where(background.known, by_background, near[1])
    return told, np.where(both, apart, told)


def _unlike(seen: np.ndarray, side: Side) -> tuple[np.ndarray, float]:
    """(n, S) how unlike a side what is seen is, where that is known, 1 where it is just told; and by how much it usually differs."""
    difference = np.sqrt(np.mean((side.colours - seen) ** 2, axis=-1))
    sure = side.known & side.usual
    usual = max(float(np.median(difference[sure])) if sure.any() else _LEAST_DIFFERENCE, _LEAST_DIFFERENCE)
    return _reckoned(difference, usual), usual


def _reckoned(difference: np.ndarray, usual: float) -> np.ndarray:
    """How much differences count: their squares beside a multiple of the usual one, truncated."""
    return np.asarray(np.minimum((difference / (_DIFFERENT * usual)) ** 2, _MOST_COST))


def _unlike_local_colours(seen: np.ndarray, side: Side, own: np.ndarray, usual: float) -> tuple[np.ndarray, np.ndarray]:
    """(n, S) how unlike the local colours of a side what is seen is, and (n,) whether enough of them are known; `own` (S,) is where that side is."""
    nearest, enough = _nearest_colour(seen, [(seen, side.samples), (side.colours, side.known & own)])
    return _reckoned(nearest, usual), enough


def _nearest_colour(seen: np.ndarray, samples: Sequence[tuple[np.ndarray, np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
    """(n, S) how far colours lie from the nearest of `samples` in the rows round about, and (n,) whether there are enough of them.

    Parameters
    ----------
    samples : colours (n, S, 3) and (n, S) bool, where they count.
    """
    n = len(seen)
    rows = (np.arange(n)[:, None] + np.arange(-_ROWS, _ROWS + 1)) % n
    squares, count = np.full(seen.shape[:2], 1e9, np.float32), np.zeros(n, int)
    for colours, counts in samples:
        used = np.flatnonzero(counts.any(0))[::_EACH]
        if not len(used):
            continue
        own, good = np.asarray(colours[:, used], np.float32), counts[:, used]
        count += good[rows].reshape(n, -1).sum(1)
        for begin in range(0, n, _AT_A_TIME):
            part = slice(begin, begin + _AT_A_TIME)
            taken, sound = own[rows[part]].reshape(len(rows[part]), -1, 3), good[rows[part]].reshape(len(rows[part]), 1, -1)
            apart = (seen[part] ** 2).sum(-1)[:, :, None] + (taken ** 2).sum(-1)[:, None] - 2 * seen[part] @ taken.transpose(0, 2, 1)
            squares[part] = np.minimum(squares[part], np.where(sound, apart, 1e9).min(2))
    return np.sqrt(np.maximum(squares, 0) / 3), count > _FEWEST
