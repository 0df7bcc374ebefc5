"""What the scripts' classes share: arguments checked, and read."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, Self, TypeVar

import numpy as np
from pydantic import ValidationError

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry import polygon
from wertis.core.jobs.events import Event, told
from wertis.core.jobs.matching import MORE_PARTS, PARTS, match_placement
from wertis.core.shot.document import Item
from wertis.core.shot.document import Shot as Document
from wertis.core.shot.hold_outs import open_matte, read_matte
from wertis.core.shot.items import carry_item, duplicate_item, item_of, order_item, remove_item
from wertis.core.shot.points import Pattern, PointsSettings

if TYPE_CHECKING:
    from wertis.scripting.shot import Shot
    from wertis.scripting.surface import Surface

Kept = TypeVar("Kept", bound=Item)
Progress = Callable[[Event], object]
Points = Any
"""Points (N, 2): an array, or pairs x, y."""


class ItemHandle(Generic[Kept]):
    """What a script holds of an item of a shot: the shot, and the item's id.

    Attributes
    ----------
    kind : the record's class in the document.
    """

    kind: type[Kept]

    def __init__(self, shot: Shot, ident: str) -> None:
        self.shot, self.id = shot, ident

    @property
    def record(self) -> Kept:
        """Its data.

        Raises
        ------
        WertisError
            When it is no longer in the shot.
        """
        return item_of(self.shot.document, self.id, self.kind)

    @property
    def name(self) -> str:
        """Its name."""
        return self.record.name

    def remove(self) -> None:
        """Take it out of the shot."""
        self.shot._do("Remove an item", remove_item(self.shot.document, self.id))

    def duplicate(self) -> Self:
        """A copy of it, right above it."""
        document, copy = duplicate_item(self.shot.document, self.id)
        self.shot._do("Duplicate an item", document)
        return type(self)(self.shot, copy.id)

    def carry_by(self, surface: Surface, frame: int) -> Self:
        """Hang it on another surface, so that it does not move in the picture of a frame. Returns itself."""
        self.shot._do("Carry an item by another track", carry_item(self.shot.document, self.id, surface.id, frame))
        return self

    def raised(self, step: int = 1) -> Self:
        """Move it above its next neighbour of its kind under the same surface, or below it (-1). Returns itself."""
        self.shot._do("Order items", order_item(self.shot.document, self.id, step))
        return self


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


def points_settings(points: Points | Mapping[str, tuple[float, float]], look: str,
                    patterns: Mapping[str, Mapping[str, Any]] | None = None) -> PointsSettings:
    """Settings of a track of points: those given, by their names or numbered, and what they are found by, by name: `side`, `reach`, `offset`."""
    named = dict(points) if isinstance(points, Mapping) else {str(k): p for k, p in enumerate(numbers(points, "points"))}
    places = np.array(list(named.values()), float).reshape(-1, 2)
    unknown = sorted(set(patterns or {}) - set(named))
    if unknown:
        raise RegionError(f"There is no point named {unknown[0]} to have a pattern; the points are {', '.join(named)}.")
    made = tuple(Pattern(**(patterns or {}).get(name, {})) for name in named)
    return PointsSettings(points=places, names=tuple(named), patterns=made, inside=True, look=look)  # type: ignore[arg-type]


def measured_match(shot: Shot, ident: str, parts: Iterable[str], progress: Progress | None, stop: threading.Event | None) -> dict[str, str]:
    """Measure what a graphic or a patch needs to look like the plate and set it; what was found, or why nothing was, by part."""
    wanted, words, after = list(parts), {}, None
    unknown = [p for p in wanted if p not in (*PARTS, *MORE_PARTS)]
    if unknown:
        raise WertisError(f"{unknown[0]} is nothing that is matched; choose of {', '.join((*PARTS, *MORE_PARTS))}.")
    with single_threaded():
        for event in told(match_placement(shot.document, ident, shot.plate, wanted, stop=stop), progress):
            if isinstance(event.item, Document):
                after = event.item
            elif isinstance(event.item, str):
                words[event.item] = event.note
    if after is not None:
        shot._do("Match the plate", after)
    return words
