"""A matte sequence of what passes in front of a tracked surface."""

from collections.abc import Callable, Iterator

import numpy as np

from wertis.core.errors import DeliverError, PlateError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry.motion import plane_between
from wertis.core.jobs.render import check_target, frame_path
from wertis.core.plate.base import Plate, luma
from wertis.core.shot import regions
from wertis.core.shot.document import Shot, Track
from wertis.core.shot.hold_outs import HoldOutReader
from wertis.core.track.distrust import distrusted


def write_mattes(shot: Shot, track: Track, plate: Plate, pattern: str, read: Callable[[int], np.ndarray] | None = None) -> Iterator[tuple[int, str]]:
    """Write, for each frame of the range, white where the region is covered; yields each frame and, where none could be made, why.

    Parameters
    ----------
    pattern : a picture sequence, such as folder/matte.####.png.

    Raises
    ------
    DeliverError
        When the track has no motion, or a file cannot be written.
    """
    motion = track.motion
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
    for frame in range(shot.range[0], shot.range[1] + 1):
        matrix = plane_between(motion, home, frame)
        if matrix is None:
            yield frame, f"{track.name} is lost there"
            continue
        try:
            picture = luma(fetch(frame))
        except PlateError as why:
            yield frame, str(why)
            continue
        found = distrusted(reference, picture, matrix, mask) if frame != home else np.zeros(reference.shape[:2], np.uint8)
        if held is not None and frame == home:
            found = held
        write_picture(frame_path(pattern, frame), found[..., None].repeat(3, 2))
        yield frame, ""
