"""One door to every kind of plate."""

from pathlib import Path

from wertis.core.errors import PlateError
from wertis.core.plate.base import ALPHAS, Plate
from wertis.core.plate.sequence import find_sequence

MOVIES = frozenset({".mov", ".mp4", ".mkv", ".webm", ".avi", ".mxf", ".m4v", ".mpg", ".mpeg"})


def open_plate(path: str | Path, layer: str = "", alpha: str = ALPHAS[0]) -> Plate:
    """Open a folder of frames, a sequence pattern, one file of a sequence, or a movie.

    Parameters
    ----------
    layer : which of the files' layers (EXR); "" is the picture itself.
    alpha : one of `base.ALPHAS`.

    Raises
    ------
    PlateError
        When nothing readable is there; the message says what to do.
    """
    where = Path(path).expanduser()
    if not str(path).strip():
        raise PlateError("No plate was named; choose a folder of frames or a movie.")
    if where.suffix.lower() in MOVIES and not where.is_dir():
        from wertis.core.plate.movie import MoviePlate  # movies only: keeps the start of everything else quick

        if not where.exists():
            raise PlateError(f"{where} does not exist; check the name.")
        return MoviePlate(where).taken(layer, ALPHAS[0])
    found = find_sequence(where)
    return found if (layer, alpha) == ("", ALPHAS[0]) else found.taken(layer, alpha)
