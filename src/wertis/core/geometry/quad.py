"""Quads: (4, 2) corners in order round the outline, first the artwork's top left, then top right, bottom right, bottom left."""

import numpy as np

UNIT_SQUARE = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
"""Corners clockwise from the top left, as those of all quads."""


def signed_area(polygon: np.ndarray) -> float:
    """Area in square pixels of a polygon (N, 2), positive when it runs clockwise on the screen (y down)."""
    # plain numbers: for the few corners of an outline they are quicker than arrays, and the tracker asks on every frame
    points = np.asarray(polygon, np.float64).tolist()
    return 0.5 * sum(x * v - u * y for (x, y), (u, v) in zip(points, points[1:] + points[:1], strict=True))


def is_convex(quad: np.ndarray) -> bool:
    """Whether the quad (4, 2) is convex and not folded: the condition for a perspective picture of a rectangle."""
    q = np.asarray(quad, np.float64)
    if q.shape != (4, 2) or not np.all(np.isfinite(q)):
        return False
    points = q.tolist()
    edges = [(u - x, v - y) for (x, y), (u, v) in zip(points, points[1:] + points[:1], strict=True)]
    turns = [a * d - b * c for (a, b), (c, d) in zip(edges, edges[1:] + edges[:1], strict=True)]
    return min(turns) > 1e-6 or max(turns) < -1e-6


def ordered(points: np.ndarray) -> np.ndarray:
    """Four points (4, 2) put in order: clockwise on the screen, starting with the one nearest the top left."""
    p = np.asarray(points, np.float64)
    offset = p - p.mean(0)
    p = p[np.argsort(np.arctan2(offset[:, 1], offset[:, 0]))]
    return np.roll(p, -int(np.argmin(p.sum(1))), 0)


def proportions(quad: np.ndarray, picture_size: tuple[int, int], pixel_aspect: float = 1.0) -> tuple[float | None, float]:
    """The true width over height of the flat rectangle that is seen as `quad`, and the focal length it implies.

    Z. Zhang and L.-W. He, Whiteboard scanning and image enhancement, Digital Signal Processing 17, 2007, section 3.2
    (eq. 11, 14, 20): square pixels and a principal point in the picture's middle are assumed.

    Parameters
    ----------
    quad : (4, 2) corners in pixels.
    picture_size : width, height of the picture in pixels.
    pixel_aspect : width over height of a pixel.

    Returns
    -------
    ratio : width / height, or None where the view is too flat to tell (opposite sides are all but parallel).
    focal : focal length in pixels (0 where unknown).
    """
    width, height = picture_size
    q = (np.asarray(quad, np.float64) - [width / 2, height / 2]) * [pixel_aspect, 1.0]
    if not is_convex(q):
        return None, 0.0
    m1, m2, m4, m3 = (np.array([x, y, 1.0]) for x, y in q)  # the paper's order: top left, top right, bottom left, bottom right
    k2 = np.dot(np.cross(m1, m4), m3) / np.dot(np.cross(m2, m4), m3)
    k3 = np.dot(np.cross(m1, m4), m2) / np.dot(np.cross(m3, m4), m2)
    n2, n3 = k2 * m2 - m1, k3 * m3 - m1
    # n2 and n3 are the sides' directions in space, up to the focal length; their third parts vanish when sides are parallel
    if min(abs(k2 - 1), abs(k3 - 1)) < 0.008:
        return None, 0.0
    f2 = -(n2[0] * n3[0] + n2[1] * n3[1]) / (n2[2] * n3[2])
    reach = float(max(width, height))
    if not np.isfinite(f2) or not (0.3 * reach) ** 2 < f2 < (12.0 * reach) ** 2:
        return None, 0.0
    ratio = np.sqrt((n2[0] ** 2 + n2[1] ** 2 + f2 * n2[2] ** 2) / (n3[0] ** 2 + n3[1] ** 2 + f2 * n3[2] ** 2))
    return float(ratio), float(np.sqrt(f2))


def side_proportions(quad: np.ndarray) -> float:
    """Mean width over mean height of the quad's sides as they are seen: the estimate when the view is too flat to tell."""
    q = np.asarray(quad, np.float64)
    side = np.linalg.norm(np.roll(q, -1, 0) - q, axis=1)
    return float((side[0] + side[2]) / max(side[1] + side[3], 1e-9))
