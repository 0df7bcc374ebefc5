"""A matte sequence of what passes in front of a tracked surface."""

from collections.abc import Callable, Iterator

import numpy as np

from wertis.core.errors import DeliverError, PlateError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry.motion import between
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.render import check_target, frame_path
from wertis.core.plate.base import Plate, luma
from wertis.core.shot import regions
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.hold_outs import HoldOutReader
from wertis.core.shot.resolve import motion_of
from wertis.core.track.occluders import occluder_mask


def write_mattes(shot: Shot, track: Track, plate: Plate, pattern: str, read: Callable[[int], np.ndarray] | None = None,
                 stop: Stop | None = None) -> Iterator[Event]:
    """Write, for each frame of the range, white where the region is covered; an event's note says why a frame's could not be made.

    Parameters
    ----------
    pattern : a picture sequence, such as folder/matte.####.png.

    Raises
    ------
    DeliverError
        When the track has no motion, or a file cannot be written.
    """
    motion = motion_of(track)
    if motion is None:
        raise DeliverError(f"{track.name} has not been tracked; track it before you make a matte of what passes in front of it.")
    check_target(pattern)
    fetch = read or plate.read
    home = track.region.frame
    reference = luma(fetch(home))
    mask = regions.mask_of(track.region, plate.size)
    held = HoldOutReader(shot, track.id).mask(home, plate.size)
    if held is not None:
        mask[held > 127] = 0
    count = Counter(shot.range[1] - shot.range[0] + 1)
    for frame in range(shot.range[0], shot.range[1] + 1):
        if stopped(stop):
            return
        warp = between(motion, home, frame)
        if warp is None:
            yield count.event(frame, note=f"{track.name} is lost there")
            continue
        try:
            picture = luma(fetch(frame))
        except PlateError as why:
            yield count.event(frame, note=str(why))
            continue
        found = occluder_mask(reference, picture, warp, mask) if frame != home else np.zeros(reference.shape[:2], np.uint8)
        if held is not None and frame == home:
            found = held
        write_picture(frame_path(pattern, frame), found[..., None].repeat(3, 2))
        yield count.event(frame)
