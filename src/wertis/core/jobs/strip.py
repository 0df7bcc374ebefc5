"""A strip: the place of a graphic on many frames, flat and held still, comp above plate, so that a slip or a change of light is seen at once."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import cv2
import numpy as np

from wertis.core.comp.graphic import surface_warp
from wertis.core.comp.picture import Compositor
from wertis.core.errors import PlateError, RegionError
from wertis.core.geometry.warp import HomographyWarp, compose
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.matching import Reader, placement_of
from wertis.core.plate import colour
from wertis.core.plate.base import Plate
from wertis.core.shot.document import Shot
from wertis.core.shot.placing import proportions_in

_MARGIN = 0.18  # of the placement's size that is seen round it


class StripFrame(NamedTuple):
    """A frame of a strip: the comp and the plate (h, w, 3) uint8 as a display shows them, or why there is none."""

    frame: int
    comp: np.ndarray | None
    plate: np.ndarray | None
    why: str = ""


def frames_of(shot: Shot, count: int) -> list[int]:
    """So many frames of a shot's range, evenly spread, its ends among them."""
    low, high = shot.range
    return sorted({round(f) for f in np.linspace(low, high, min(count, high - low + 1))})


def strip(shot: Shot, ident: str, plate: Plate, frames: Sequence[int], height: int = 180, read: Reader | None = None,
          stop: Stop | None = None) -> Iterator[Event]:
    """The frames of a strip, each the item of an event.

    Parameters
    ----------
    ident : of the placement.
    height : pixels of each picture; the width follows from the surface's proportions.

    Raises
    ------
    RegionError
        When the placement is gone.
    """
    track, placement = placement_of(shot, ident)
    ratio = proportions_in(shot, placement)
    extent = 1 + 2 * _MARGIN
    size = max(16, round(height * ratio)), height
    onto = HomographyWarp(np.array([[extent / size[0], 0, -_MARGIN], [0, extent / size[1], -_MARGIN], [0, 0, 1.0]]))
    compositor, count, fetch = Compositor(stand_in=True), Counter(len(frames)), read or plate.read
    for frame in frames:
        if stopped(stop):
            return
        surface = surface_warp(track, placement, frame)
        if surface is None:
            yield count.event(frame, StripFrame(frame, None, None, f"{track.name} is lost on frame {frame}"))
            continue
        try:
            picture = fetch(frame)
            comp = compositor.comp(shot, picture, frame)
        except (PlateError, RegionError) as why:
            yield count.event(frame, StripFrame(frame, None, None, str(why)))
            continue
        x, y = np.meshgrid(np.arange(size[0]) + 0.5, np.arange(size[1]) + 0.5)
        places = compose(surface, onto).forward(np.column_stack([x.ravel(), y.ravel()])).reshape(*x.shape, 2)
        at = np.nan_to_num(places - 0.5, nan=-9.0).astype(np.float32)
        shown = [np.asarray(cv2.remap(_calm(colour.shown(p), places), at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT))  # type: ignore[call-overload]
                 for p in (comp, picture)]
        yield count.event(frame, StripFrame(frame, shown[0], shown[1]))


def _calm(picture: np.ndarray, places: np.ndarray) -> np.ndarray:
    """A picture blurred where it is shown smaller, so that no pixel is passed over."""
    steps = np.linalg.norm(np.diff(places, axis=1), axis=2)
    step = float(np.nanmedian(steps)) if np.isfinite(steps).any() else 1.0
    return picture if step <= 1.2 else np.asarray(cv2.GaussianBlur(picture, (0, 0), 0.5 * np.sqrt(step ** 2 - 1)))
