"""How artwork of given proportions sits in a placement whose quad has proportions of its own."""

import numpy as np

from wertis.core.geometry import homography

FITS = ("fit", "fill", "stretch")


def artwork_quad(placement: np.ndarray, surface_ratio: float, artwork_ratio: float, fit: str = "fit") -> np.ndarray:
    """The quad (4, 2) that the whole artwork covers, in the placement's plane.

    Parameters
    ----------
    placement : (4, 2) the placement's quad, seen in perspective.
    surface_ratio : true width / height of what the quad outlines on the surface.
    artwork_ratio : width / height of the artwork.
    fit : "fit" keeps the artwork's proportions and shows all of it inside the quad; "fill" keeps them and covers the quad;
        "stretch" gives them up.
    """
    if fit == "stretch":
        return np.array(placement, np.float64)
    relation = artwork_ratio / surface_ratio
    wide = relation > 1
    if fit == "fill":
        wide = not wide
    w, h = (1.0, 1.0 / relation) if wide else (relation, 1.0)
    x, y = (1 - w) / 2, (1 - h) / 2
    inner = np.array([[x, y], [x + w, y], [x + w, y + h], [x, y + h]])
    return homography.apply(homography.from_unit_square(np.asarray(placement, np.float64)), inner)
