"""In which coordinates and frame numbers motion goes out: what receiving applications differ in."""

from collections.abc import Mapping
from typing import Annotated, Any, Literal, TypeVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from wertis.core.errors import DeliverError

_Value = TypeVar("_Value")
Centre = Literal["half", "zero"]
Units = Literal["pixels", "unit"]
Side = Annotated[int, Field(ge=1, le=65536)]


class OtherSize(DeliverError):
    """A file is of a picture of another size than the plate, and may be scaled."""


def scale_to(name: str, size: tuple[int, int], plate: tuple[int, int], scaled: bool) -> np.ndarray:
    """What pixels of a file's picture are multiplied by, (2,), to be the plate's.

    Raises
    ------
    OtherSize
        When the sizes differ, and it is not to be scaled.
    """
    if tuple(size) != tuple(plate) and not scaled:
        raise OtherSize(f"{name} is of a picture of {size[0]} x {size[1]}, and the plate has {plate[0]} x {plate[1]}; have it scaled to the plate "
                        "(--scaled), or open the plate that it is of.")
    return np.array(plate, float) / np.array(size, float)


class LayoutOptions(BaseModel):
    """What a receiver wants of coordinates and frames, whatever the plate.

    Attributes
    ----------
    y_up : y grows upward from the picture's lower edge, rather than downward from its upper one.
    centre : where the first pixel's centre is: at 0.5, 0.5 ("half") or at 0, 0 ("zero"). In units of the picture it means nothing.
    units : pixels, or shares of the receiver's picture from 0 to 1.
    receiver : width, height of the receiver's picture; None for the plate's own.
    first : number that the range's first frame gets; None for the plate's own numbers.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    y_up: bool = False
    centre: Centre = "half"
    units: Units = "pixels"
    receiver: tuple[Side, Side] | None = None
    first: Annotated[int, Field(ge=-10_000_000, le=100_000_000)] | None = None

    @property
    def options(self) -> dict[str, Any]:
        """These alone, by name."""
        return self.model_dump(include=set(LayoutOptions.model_fields))


class Layout(LayoutOptions):
    """How coordinates and frames of a plate are written.

    Attributes
    ----------
    size : width, height of the plate's picture.
    start : the plate's number of the range's first frame.
    """

    size: tuple[Side, Side]
    start: int = 0

    @property
    def matrix(self) -> np.ndarray:
        """(3, 3) the plate's coordinates (y down, first centre at 0.5) to those written."""
        w, h = self.size
        there = self.picture
        out = np.diag([there[0] / w, there[1] / h, 1.0])
        if self.y_up:
            out = np.array([[1.0, 0, 0], [0, -1, there[1]], [0, 0, 1]]) @ out
        if self.units == "unit":
            return np.diag([1 / there[0], 1 / there[1], 1.0]) @ out
        shift = -0.5 if self.centre == "zero" else 0.0
        return np.array([[1.0, 0, shift], [0, 1, shift], [0, 0, 1]]) @ out

    def points(self, points: np.ndarray) -> np.ndarray:
        """Points (..., 2) of the plate's picture as they are written."""
        m = self.matrix  # upright: scales and a shift
        return np.asarray(points) * m[[0, 1], [0, 1]] + m[:2, 2]

    def back(self, points: np.ndarray) -> np.ndarray:
        """Written points (..., 2) in the plate's picture."""
        m = np.linalg.inv(self.matrix)
        return np.asarray(points) @ m[:2, :2].T + m[:2, 2]

    def homography(self, matrix: np.ndarray) -> np.ndarray:
        """A map (3, 3) of the plate's coordinates as one of those written, its last element 1."""
        out = self.matrix @ matrix @ np.linalg.inv(self.matrix)
        return out / out[2, 2]

    def homography_back(self, matrix: np.ndarray) -> np.ndarray:
        """A written map (3, 3) as one of the plate's coordinates."""
        out = np.linalg.inv(self.matrix) @ matrix @ self.matrix
        return out / out[2, 2]

    def frame(self, frame: int) -> int:
        """A plate's frame as it is numbered."""
        return frame if self.first is None else frame - self.start + self.first

    def frame_back(self, frame: int) -> int:
        """A written number's frame of the plate."""
        return frame if self.first is None else frame - self.first + self.start

    def lengths(self, lengths: np.ndarray) -> np.ndarray:
        """Distances in the plate's pixels, such as a soft edge's, as they are written; where width and height are scaled apart, by the mean of both."""
        return np.asarray(lengths) * self._scale

    def lengths_back(self, lengths: np.ndarray) -> np.ndarray:
        """Written distances in the plate's pixels."""
        return np.asarray(lengths) / self._scale

    @property
    def _scale(self) -> float:
        return float(np.sqrt(abs(self.matrix[0, 0] * self.matrix[1, 1])))

    @property
    def picture(self) -> tuple[int, int]:
        """Width, height of the picture that is written of."""
        return self.receiver or self.size

    @property
    def upright(self) -> "Layout":
        """Its size and frame numbers alone, for formats whose coordinates are fixed."""
        return self.model_copy(update={"y_up": False, "centre": "half", "units": "pixels"})

    @property
    def plain(self) -> bool:
        """Whether all is written as it is on the plate."""
        return np.array_equal(self.matrix, np.eye(3)) and self.first in (None, self.start)

    @property
    def digits(self) -> int:
        """Places after the point that keep a ten thousandth of a pixel."""
        return 9 if self.units == "unit" else 4

    def frames(self, by_frame: Mapping[int, _Value]) -> dict[int, _Value]:
        """What is kept by the plate's frames, by those that are written."""
        return {self.frame(f): v for f, v in by_frame.items()}

    def frames_back(self, by_frame: Mapping[int, _Value]) -> dict[int, _Value]:
        """What is kept by written frames, by the plate's."""
        return {self.frame_back(f): v for f, v in by_frame.items()}

    def said(self) -> dict[str, Any]:
        """As it stands in a file."""
        return self.model_dump(mode="json")

    def words(self) -> str:
        """The convention, in a sentence for the file and the receiver."""
        w, h = self.picture
        origin = "lower left" if self.y_up else "top left"
        way = "up" if self.y_up else "down"
        if self.units == "unit":
            return f"shares of the picture from 0 to 1; origin at its {origin} corner, x right, y {way}; picture {w} x {h}"
        centre = "0.5,0.5" if self.centre == "half" else "0,0"
        corner = "corner pixel" if self.y_up else "pixel"
        return f"pixels of a picture of {w} x {h}; origin {origin}, x right, y {way}; the first {corner}'s centre at {centre}"
