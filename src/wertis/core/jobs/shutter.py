"""The shutter of a plate, measured from a surface that was tracked in it."""

from collections.abc import Callable

import numpy as np

from wertis.core.check.series import DriftSeries
from wertis.core.errors import PlateError, WertisError
from wertis.core.geometry.motion import between
from wertis.core.imaging.channel_mixture import channel_mixture
from wertis.core.imaging.shutter import NEAR
from wertis.core.plate.base import Plate, grey_of
from wertis.core.shot import regions
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.hold_outs import held_masks
from wertis.core.shot.resolve import motion_of

_FASTEST = 6  # frames, those on which the surface moves most


def measured_shutter(shot: Shot, track: Track, plate: Plate, read: Callable[[int], np.ndarray] | None = None) -> float | None:
    """For how many degrees of a frame the shutter is open (360 is the whole of it), by the blur on the frames where a surface moves most.

    None where nothing moves fast enough, or no shutter explains what is seen.

    Raises
    ------
    WertisError
        When the track has no motion.
    PlateError
        When the reference frame cannot be read.
    """
    motion, base = motion_of(track), track.region.frame
    if motion is None:
        raise WertisError(f"{track.name} has not been tracked; the shutter is measured from how its surface moves.")
    fetch, box = read or plate.read, track.region.box
    warps = {f: between(motion, base, f) for f in range(shot.range[0], shot.range[1] + 1)}
    places = {f: w.forward(box) for f, w in warps.items() if w is not None and w.matrix is not None}
    speed = {f: float(np.linalg.norm(places[f + 1] - places[f - 1], axis=1).mean()) for f in places if f - 1 in places and f + 1 in places and f != base}
    wanted: set[int] = set()
    for fast in sorted(speed, key=lambda f: (-speed[f], f))[:_FASTEST]:
        wanted |= set(range(fast - NEAR, fast + NEAR + 1))
    wanted |= set(range(base - NEAR, base + NEAR + 1))
    mask, held = regions.mask_of(track.region, plate.size, None), held_masks(shot, track, plate.size)
    first = fetch(base)
    away = held(base) if held is not None else None
    if away is not None:
        mask[away > 127] = 0
    mixture = channel_mixture(first, mask)
    series = DriftSeries(grey_of(first, mixture), mask, box, base)
    pictures: dict[int, tuple[np.ndarray, np.ndarray | None]] = {}
    for frame in sorted(wanted & set(places) - {base}):
        try:
            pictures[frame] = grey_of(fetch(frame), mixture), held(frame) if held is not None else None
        except PlateError:
            continue
        warp = warps[frame]
        assert warp is not None
        x0, y0, x1, y1 = series.window(warp, plate.size)
        luma, hidden = pictures[frame]
        part = hidden[y0:y1, x0:x1] if hidden is not None else None
        series.take(frame, series.look(luma[y0:y1, x0:x1], warp, part, (x0, y0), plate.size), warp)
    found = series.shutter(lambda f: pictures[f])
    return None if found is None else 360 * found.part
