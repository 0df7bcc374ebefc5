"""What the scripts' classes share: arguments checked, and read."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.errors import RegionError
from wertis.core.geometry import polygon
from wertis.core.jobs.events import Event
from wertis.core.shot.hold_outs import open_matte, read_matte
from wertis.core.shot.points import PointsSettings

Progress = Callable[[Event], object]
Points = Any
"""Points (N, 2): an array, or pairs x, y."""


@contextmanager
def checked_fields() -> Iterator[None]:
    """Says in Wertis' own error which value does not fit its field."""
    try:
        yield
    except ValidationError as why:
        first = why.errors()[0]
        raise RegionError(f"{'.'.join(map(str, first['loc'])) or 'That'} cannot be {first['input']!r}: {first['msg']}.") from why


def numbers(points: Points, what: str) -> np.ndarray:
    """Points as an array of numbers.

    Raises
    ------
    RegionError
        When they are none; `what` says what they should be.
    """
    try:
        return np.asarray(points, float)
    except (TypeError, ValueError) as why:
        raise RegionError(f"The {what} are not numbers; give pairs x, y in pixels.") from why


def held(what: Points | str | Path, size: tuple[int, int]) -> Callable[[int], np.ndarray]:
    """What a polygon or a matte sequence holds out: frame to (h, w) uint8."""
    if isinstance(what, str | Path):
        matte = open_matte(Path(what), size)
        nothing = np.zeros(size[::-1], np.uint8)

        def there(frame: int) -> np.ndarray:
            mask = read_matte(matte, frame)
            return nothing if mask is None else mask

        return there
    mask = polygon.fill(polygon.checked(numbers(what, "hold-out"), size), size)
    return lambda frame: np.where(mask > 0, 255, 0).astype(np.uint8)


def points_settings(points: Points | Mapping[str, tuple[float, float]], look: str) -> PointsSettings:
    """Settings of a track of points: those given, by their names or numbered."""
    named = dict(points) if isinstance(points, Mapping) else {str(k): p for k, p in enumerate(numbers(points, "points"))}
    places = np.array(list(named.values()), float).reshape(-1, 2)
    return PointsSettings(points=places, names=tuple(named), sides=(0,) * len(named), inside=True, look=look)  # type: ignore[arg-type]
