"""Coordinate maps and motion vectors as EXR sequences: for every pixel of a picture the place that belongs there, or its way to the frames beside.

docs/formats.md lists the channels.
"""

from pathlib import Path
from typing import NamedTuple

import numpy as np
import OpenImageIO as oiio
from pydantic import ValidationError

from wertis.core.errors import DeliverError
from wertis.core.exchange import exr
from wertis.core.exchange.layout import Layout

NOTE, _LAYOUT, _REFERENCE = "wertis:map", "wertis:layout", "wertis:reference"
PLACES = ("R", "G", "B", "A")
"""Channels of a map: a place's x and y, nothing, and 1 where it is known."""
VECTORS = ("forward.u", "forward.v", "backward.u", "backward.v", "seen")
"""Channels of motion vectors (common practice for the names): the way to the next frame and to the one before, and 1 where both are known."""
_BACKWARDS = "of the frame"  # in the words of a map that says for the frame's pixels where they are on the reference frame


class MapAbout(NamedTuple):
    """What a map says of itself: its layout, its reference frame as it is numbered there, and whether it goes from the frame to that."""

    layout: Layout
    reference: int
    backwards: bool


def write_map(path: Path, data: np.ndarray, layout: Layout, words: str, reference: int = 0, channels: tuple[str, ...] = PLACES) -> None:
    """Write a map (h, w, channels) float32.

    Parameters
    ----------
    layout : in which the places are.
    words : what the map is, for the header.
    reference : the frame that it goes to or comes from, as it is numbered in the layout.
    channels : `PLACES` or `VECTORS`.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    h, w = data.shape[:2]
    spec = oiio.ImageSpec(w, h, len(channels), oiio.FLOAT)
    spec.channelnames = channels
    spec.attribute("compression", "rle")  # "zip" halves the size of a map and its speed
    spec.attribute(NOTE, words)
    spec.attribute(_LAYOUT, layout.model_dump_json())
    spec.attribute(_REFERENCE, str(reference))
    exr.write(path, spec, data)


def read_map(path: Path) -> tuple[np.ndarray, MapAbout]:
    """A map (h, w, 4) float32 that `write_map` wrote, and what it says of itself.

    Raises
    ------
    DeliverError
        When it cannot be read, or is no such map.
    """
    with exr.opened(path) as source:
        spec = source.spec()
        said = {name: str(spec.get_string_attribute(name)) for name in (NOTE, _LAYOUT, _REFERENCE)}
        names = list(spec.channelnames)
        if not all(said.values()) or not set(PLACES) <= set(names):
            raise DeliverError(f"{path.name} is no coordinate map that Wertis wrote; choose another file.")
        try:
            about = MapAbout(Layout.model_validate_json(said[_LAYOUT]), int(said[_REFERENCE]), _BACKWARDS in said[NOTE])
        except (ValidationError, ValueError) as why:
            raise DeliverError(f"{path.name} is damaged (its header says nothing that fits); export it again.") from why
        pixels = exr.pixels_of(source, path)
    if (spec.width, spec.height) != tuple(about.layout.size):
        raise DeliverError(f"{path.name} has {spec.width} x {spec.height} pixels and says that it is of {about.layout.size}; export it again.")
    found = np.ascontiguousarray(pixels[..., [names.index(n) for n in PLACES]])
    if not np.isfinite(found).all():
        raise DeliverError(f"{path.name} holds places that are not finite; export it again.")
    return found, about
