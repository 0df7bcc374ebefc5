"""How artwork of given proportions sits in a placement whose quad has proportions of its own."""

import numpy as np

FITS = ("fit", "fill", "stretch", "own")


def artwork_rectangle(surface_ratio: float, artwork_ratio: float, fit: str = "fit", own_height: float = 1.0) -> np.ndarray:
    """Low and high corner (2, 2) of the rectangle that the whole artwork covers, in the placement's unit square.

    Parameters
    ----------
    surface_ratio : true width / height of what the placement outlines on the surface.
    artwork_ratio : width / height of the artwork.
    fit : "fit" keeps the artwork's proportions and shows all of it inside the placement; "fill" keeps them and covers the placement;
        "stretch" gives them up; "own" keeps them and a height of its own.
    own_height : the artwork's height over the placement's, for "own".
    """
    if fit == "stretch":
        return np.array([[0.0, 0.0], [1.0, 1.0]])
    if fit == "own":
        half = np.array([own_height * artwork_ratio / surface_ratio, own_height]) / 2
        return np.array([0.5 - half, 0.5 + half])
    relation = artwork_ratio / surface_ratio
    wide = relation > 1
    if fit == "fill":
        wide = not wide
    w, h = (1.0, 1.0 / relation) if wide else (relation, 1.0)
    x, y = (1 - w) / 2, (1 - h) / 2
    return np.array([[x, y], [x + w, y + h]])
