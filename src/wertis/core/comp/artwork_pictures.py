"""The pictures of artwork by what they are: read or made once, finished, and kept with their reductions."""

from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

import numpy as np

from wertis.core.comp import artwork as art
from wertis.core.comp import lay, text
from wertis.core.comp.finish import finished
from wertis.core.errors import PlateError
from wertis.core.plate.colour import CODED, converted
from wertis.core.shot.artwork import Artwork

_MOST_KEPT = 8  # pictures of artwork, with their reductions
_HATCHED = 1.6  # width over height of what stands in for artwork of which nothing is known


class ArtworkPictures:
    """Pictures of artwork, kept between frames.

    Parameters
    ----------
    stand_in : artwork that cannot be read is drawn hatched, and why is kept in `problems` by its path; otherwise that is an error.
    """

    def __init__(self, stand_in: bool = False) -> None:
        self.stand_in = stand_in
        self.problems: dict[str, str] = {}
        self._files: dict[tuple[str, str], art.FileArtwork] = {}
        self._made: OrderedDict[object, lay.Reductions] = OrderedDict()

    def ratio(self, artwork: Artwork, surface_ratio: float) -> float:
        """Width / height of artwork; what is made takes the surface's own.

        Raises
        ------
        PlateError
            When the file cannot be read.
        """
        if artwork.kind == "text":
            return text.text_ratio(artwork.text, artwork.font, artwork.leading, artwork.outline, artwork.tracking)
        if artwork.kind not in ("picture", "sequence"):
            return surface_ratio
        try:
            return self._file(artwork).ratio
        except PlateError as why:
            self._missing(artwork, why)
            return surface_ratio

    def picture(self, artwork: Artwork, ratio: float, frame: int, space: str) -> lay.Reductions:
        """Artwork for a frame, its colours in a colour space.

        Raises
        ------
        PlateError
            When the file cannot be read.
        """
        if artwork.kind in ("picture", "sequence"):
            try:
                file = self._file(artwork)
                index = file.index(frame, artwork)
                key = artwork.kind, artwork.path, index, artwork.finish.model_dump_json(), space
                return self._kept(key, lambda: self._read(file, index, artwork, space))
            except PlateError as why:
                self._missing(artwork, why)
                return self._kept(("hatched", round(ratio, 3), space), lambda: converted(art.hatched(ratio), CODED, space))
        made = self._made_by(artwork, ratio)
        look = artwork.but(path="", start=0, loop=False, speed=1.0, held=None).model_dump_json()
        return self._kept((look, round(ratio, 3), space), lambda: converted(finished(made(), CODED, artwork.finish), CODED, space))

    def _made_by(self, artwork: Artwork, ratio: float) -> Callable[[], np.ndarray]:
        if artwork.kind == "grid":
            return lambda: art.grid(ratio, artwork.cells)
        if artwork.kind == "checker":
            return lambda: art.checker(ratio, artwork.cells)
        if artwork.kind == "text":
            return lambda: text.text(artwork.text, artwork.font, artwork.colour, artwork.align, artwork.leading, artwork.outline, artwork.outline_colour,
                                     artwork.tracking)
        if artwork.kind == "solid":
            return lambda: text.solid(artwork.colour)
        return lambda: text.gradient(artwork.colour, artwork.second, artwork.angle, ratio)

    @staticmethod
    def _read(file: art.FileArtwork, index: int, artwork: Artwork, space: str) -> np.ndarray:
        picture, own = file.read(index)
        return converted(finished(picture, own, artwork.finish), own, space)

    def _missing(self, artwork: Artwork, why: PlateError) -> None:
        if not self.stand_in:
            raise why
        self.problems[artwork.path] = str(why)

    def _kept(self, key: object, make: Callable[[], np.ndarray]) -> lay.Reductions:
        """A picture by what it is; the ones used last are kept."""
        found = self._made.get(key)
        if found is None:
            found = self._made[key] = lay.Reductions(make())
            while len(self._made) > _MOST_KEPT:
                self._made.popitem(last=False)
        else:
            self._made.move_to_end(key)
        return found

    def _file(self, artwork: Artwork) -> art.FileArtwork:
        key = (artwork.kind, artwork.path)
        if key not in self._files:
            if not artwork.path:
                raise PlateError("No artwork is chosen; choose a file in the step Use.")
            self._files[key] = art.FileArtwork(Path(artwork.path), still=artwork.kind == "picture")
        return self._files[key]
