"""Triangulated meshes: laid into a region, and smooth warps through their vertices.

Between its vertices a mesh's warp is the map of least bending through them, on a lattice of cubic B-splines: F. Bookstein, Principal warps: thin-plate
splines and the decomposition of deformations, IEEE PAMI 11, 1989. So it has no corners at the triangles' edges, and no cracks.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import cv2
import numpy as np
import scipy

from wertis.core import compiled
from wertis.core.compiled import address
from wertis.core.errors import RegionError
from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import LEAST_BENDING, Interpolation, Lattice, evaluate
from wertis.core.geometry.motion import TabulatedMotion
from wertis.core.geometry.warp import SPARSE, Box, Warp

LEAST_SPACING, MOST_VERTICES = 6.0, 4000  # pixels between vertices, and how many there may be
_STEP = 0.85  # of the vertices' spacing: the lattice can then pass through every vertex
_THROUGH = 1e6  # weight of a vertex beside that of bending, by which it is met to less than a thousandth of a pixel
_BEYOND = 0.5  # of the mesh's box, all round it, in which its warp can be inverted
_APART = 0.35  # of the spacing, within which a vertex that is given takes the place of one that would be laid
_CLOSE = 3  # vertices that say how sure a point is


class Mesh:
    """Vertices on the reference frame with their triangles.

    Parameters
    ----------
    vertices : (V, 2) in pixels.
    triangles : (T, 3) int, numbers of vertices, clockwise as they are seen (y down); Delaunay's when not given.
    weights : (V,) how much each counts for the shape between them: 1, or 0 for one that follows the others.

    Raises
    ------
    RegionError
        When there are fewer than three vertices, or all lie on a line.
    """

    def __init__(self, vertices: np.ndarray, triangles: np.ndarray | None = None, weights: np.ndarray | None = None) -> None:
        self.vertices = np.asarray(vertices, np.float64)
        if len(self.vertices) < 3:
            raise RegionError(f"A mesh needs at least three vertices; this one has {len(self.vertices)}. Add some, or make the spacing smaller.")
        self.triangles = triangulated(self.vertices) if triangles is None else np.asarray(triangles, np.int64).reshape(-1, 3)
        self.weights = np.ones(len(self.vertices)) if weights is None else np.asarray(weights, np.float64)

    @cached_property
    def spacing(self) -> float:
        """How far vertices lie from their nearest neighbours, in pixels: the lower quartile."""
        near = self._tree.query(self.vertices, k=2)[0][:, 1]
        return float(max(np.quantile(near, 0.25), LEAST_SPACING / 2))

    @cached_property
    def lattice(self) -> Lattice:
        """The lattice on which the warps are worked out."""
        size = np.ptp(self.vertices, axis=0)
        least = float(np.sqrt(max(size[0] * size[1], 1.0) / 6000))  # control points at most
        return Lattice.over(self.vertices, max(_STEP * self.spacing, least))

    @cached_property
    def _tree(self) -> "scipy.spatial.cKDTree":
        return scipy.spatial.cKDTree(self.vertices)

    @cached_property
    def _interpolation(self) -> Interpolation:
        return Interpolation(self.lattice, self.vertices[self.weights > 0], _THROUGH, LEAST_BENDING)

    def control_values(self, places: np.ndarray) -> np.ndarray:
        """(rows, columns, 2) of the lattice's map that takes the vertices to places (V, 2)."""
        away = (np.asarray(places) - self.vertices)[self.weights > 0]
        return np.asarray(self.lattice.identity + self._interpolation.values(away))

    @cached_property
    def grid(self) -> tuple[np.ndarray, np.ndarray]:
        """Points (n, 2) of a fine grid over the mesh and what lies beyond it, and triangles (m, 3) between them."""
        (x0, y0), (x1, y1) = self.vertices.min(0), self.vertices.max(0)
        margin, step = _BEYOND * max(x1 - x0, y1 - y0), self.lattice.step / 2
        x, y = np.arange(x0 - margin, x1 + margin + step, step), np.arange(y0 - margin, y1 + margin + step, step)
        number = np.arange(len(x) * len(y)).reshape(len(y), len(x))
        a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
        triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
        return np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2), triangles

    def nearest(self, points: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Distances and numbers (n, count) of the vertices nearest to points (n, 2)."""
        count = min(count, len(self.vertices))
        far, index = self._tree.query(points, k=count)
        return far.reshape(len(points), count), index.reshape(len(points), count)

    def interpolated(self, values: np.ndarray, points: np.ndarray) -> np.ndarray:
        """Values (V,) of the vertices at points (n, 2), by the nearest ones."""
        far, index = self.nearest(points, _CLOSE)
        weight = 1 / (far + 1e-3)
        return np.asarray((values[index] * weight).sum(1) / weight.sum(1))


class MeshWarp(Warp):
    """The warp of a mesh whose vertices lie at places (V, 2) of the target.

    Parameters
    ----------
    seen : (V,) whether each vertex is seen; where the surface lies over itself the seen part is on top.
    """

    def __init__(self, mesh: Mesh, places: np.ndarray, seen: np.ndarray | None = None) -> None:
        self.mesh, self.places = mesh, np.asarray(places, np.float64)
        self.seen = seen

    @cached_property
    def values(self) -> np.ndarray:
        """(rows, columns, 2) control values."""
        return self.mesh.control_values(self.places)

    def forward(self, points: np.ndarray) -> np.ndarray:
        p = np.asarray(points, np.float64)
        return evaluate(self.mesh.lattice, self.values, p.reshape(-1, 2))[0].reshape(p.shape)

    def jacobian(self, points: np.ndarray) -> np.ndarray:
        slopes = evaluate(self.mesh.lattice, self.values, np.asarray(points, np.float64), slopes=True)[1]
        assert slopes is not None
        return slopes

    @cached_property
    def _pieces(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The fine grid's triangles in source and target (m, 3, 2), and (m,) which lie on top."""
        points, triangles = self.mesh.grid
        moved = self.forward(points)
        order = np.zeros(len(triangles))
        if self.seen is not None:
            order = self.mesh.interpolated(np.asarray(self.seen, np.float64), points)[triangles].mean(1)
        return points[triangles], moved[triangles], order

    @cached_property
    def folds(self) -> bool:
        """Whether some of the mesh is turned away."""
        inside = self.mesh.triangles
        a, b, c = (self.places[inside[:, k]] for k in range(3))
        area = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (c[:, 0] - a[:, 0]) * (b[:, 1] - a[:, 1])
        return bool((area <= 0).any())

    def _first_guess(self, points: np.ndarray) -> np.ndarray:
        source, target, order = self._pieces
        a, b, c = target[:, 0], target[:, 1], target[:, 2]
        front = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (c[:, 0] - a[:, 0]) * (b[:, 1] - a[:, 1]) > 0
        middles, starts, top = target[front].mean(1), source[front].mean(1), order[front]
        out = np.full_like(points, np.nan)
        sound = np.isfinite(points).all(1)
        if not len(middles) or not sound.any():
            return out
        far, index = scipy.spatial.cKDTree(middles).query(points[sound], k=min(6, len(middles)))
        far, index = far.reshape(sound.sum(), -1), index.reshape(sound.sum(), -1)
        # among those about as near, the one on top
        score = np.where(far <= far[:, :1] + self.mesh.lattice.step, top[index], -1)
        out[sound] = starts[np.take_along_axis(index, score.argmax(1)[:, None], axis=1)[:, 0]]
        return out

    def inverse_map(self, box: Box, samples: int = 1) -> np.ndarray:
        x0, y0, x1, y1 = box
        if self.folds:  # ends that are sharp to the pixel
            each = 1.0 / samples
            return self._drawn(x0 + each / 2, y0 + each / 2, each, (x1 - x0) * samples, (y1 - y0) * samples)
        return super().inverse_map(box, samples)

    @property
    def sharp_ends(self) -> bool:
        return self.folds

    def sparse_inverse(self, box: Box) -> np.ndarray:
        x0, y0, x1, y1 = box
        columns, rows = (-(-(end - start) // SPARSE) + 2 for start, end in ((x0, x1), (y0, y1)))
        return self._drawn(x0 - SPARSE / 2, y0 - SPARSE / 2, float(SPARSE), columns, rows)

    def _drawn(self, x: float, y: float, pitch: float, columns: int, rows: int) -> np.ndarray:
        """(rows, columns, 2) float32 source points of a grid of target points; nan where nothing of the surface is seen."""
        found, _ = drawn_triangles(*self._pieces, (x, y), pitch, (rows, columns), self.mesh.lattice, self.values)
        return found.astype(np.float32)


def drawn_triangles(source: np.ndarray, target: np.ndarray, order: np.ndarray, begin: tuple[float, float], pitch: float, shape: tuple[int, int],
                    lattice: Lattice | None = None, values: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Triangles drawn into a grid of target points, of which each gets its source point; those turned away are left out.

    Parameters
    ----------
    source, target : (n, 3, 2) corners of the triangles, clockwise where they are seen from the front.
    order : (n,) of two over each other that with the higher one shows.
    begin, pitch, shape : the first target point x, y, the distance between them, and rows and columns.
    lattice, values : a smooth map that the triangles stand for, on which the source points are then solved for exactly.

    Returns
    -------
    (rows, columns, 2) source points, nan where nothing is, and (rows, columns) the order of what shows, -inf where nothing does.
    """
    rows, columns = shape
    (x, y), far = begin, np.array(begin) + [pitch * columns, pitch * rows]
    near = ((target.max(1) >= begin) & (target.min(1) <= far)).all(1)
    source, target, order = (np.ascontiguousarray(a[near], np.float64) for a in (source, target, order))
    found, rank = np.full((rows, columns, 2), np.nan), np.full((rows, columns), -np.inf, np.float32)
    lattice = lattice or Lattice(0.0, 0.0, 1.0, 4, 4)
    steps = 0 if values is None else 2
    values = np.ascontiguousarray(lattice.identity if values is None else values)
    f, g = np.float64, compiled.double
    if compiled.LIBRARY is not None:
        compiled.LIBRARY.spline_inverse(address(values, f), *bspline.geometry_arguments(lattice), address(source, f), address(target, f),
                                        address(order, f), compiled.long(len(order)), g(x), g(y), g(pitch), int(columns), int(rows), steps,
                                        address(found, f), address(rank, np.float32))
        return found, rank
    for p, q, top in zip(target, source, order, strict=True):
        (ax, ay), (bx, by) = p[1] - p[0], p[2] - p[0]
        area = ax * by - bx * ay
        if area <= 1e-12:
            continue
        low = np.maximum(np.ceil((p.min(0) - begin) / pitch - 1e-9), 0).astype(int)
        high = np.minimum(np.floor((p.max(0) - begin) / pitch + 1e-9), [columns - 1, rows - 1]).astype(int)
        if (high < low).any():
            continue
        px, py = np.meshgrid(x + pitch * np.arange(low[0], high[0] + 1) - p[0, 0], y + pitch * np.arange(low[1], high[1] + 1) - p[0, 1])
        b1, b2 = (px * by - bx * py) / area, (ax * py - px * ay) / area
        part = (slice(low[1], high[1] + 1), slice(low[0], high[0] + 1))
        inside = (b1 >= -1e-6) & (b2 >= -1e-6) & (b1 + b2 <= 1 + 1e-6) & (rank[part] < np.float32(top))
        at = q[0] + b1[..., None] * (q[1] - q[0]) + b2[..., None] * (q[2] - q[0])
        found[part][inside], rank[part][inside] = at[inside], top
    return found, rank


@dataclass(frozen=True)
class MeshFix:
    """One frame's answer of a mesh tracker.

    Attributes
    ----------
    mesh : of V vertices.
    places : (V, 2) of the vertices; None when the surface was lost.
    errors : (V,) expected error in pixels (one standard deviation).
    measured : (V,) whether each is measured on this frame; the others go with their neighbours.
    seen : share 0..1 of the region's texture that is in the picture and matches.
    reason : why it was lost, in words; empty otherwise.
    """

    mesh: Mesh
    places: np.ndarray | None
    errors: np.ndarray = field(default_factory=lambda: np.zeros(0))
    measured: np.ndarray = field(default_factory=lambda: np.zeros(0, bool))
    seen: float = 0.0
    reason: str = ""

    @property
    def warp(self) -> Warp | None:
        """The answer as a warp."""
        return MeshWarp(self.mesh, self.places, self.measured) if self.places is not None else None

    @property
    def error(self) -> float:
        """The root mean square of the expected errors of the vertices that are measured, in pixels."""
        return float(np.sqrt(np.mean(self.errors[self.measured] ** 2))) if self.measured.any() else np.inf


class MeshMotion(TabulatedMotion):
    """A mesh's motion.

    Parameters
    ----------
    reference : the reference frame, on which the vertices lie where the mesh has them.
    places : frame to (V, 2).
    errors, seen : frame to (V,) expected error in pixels, and whether each vertex is measured.
    """

    def __init__(self, reference: int, mesh: Mesh, places: Mapping[int, np.ndarray], errors: Mapping[int, np.ndarray],
                 seen: Mapping[int, np.ndarray]) -> None:
        super().__init__(reference, {f: MeshWarp(mesh, p, seen.get(f)) for f, p in places.items()})
        self.mesh, self._errors = mesh, errors

    def error_on(self, points: np.ndarray, frame: int) -> np.ndarray:
        if frame == self._reference:
            return np.zeros(len(points))
        errors = self._errors.get(frame)
        return np.full(len(points), np.inf) if errors is None else self.mesh.interpolated(errors, points)

    def between(self, first: Warp, second: Warp, part: float) -> Warp | None:
        a, b = (w.places if isinstance(w, MeshWarp) else self.mesh.vertices for w in (first, second))
        seen = [w.seen for w in (first, second) if isinstance(w, MeshWarp) and w.seen is not None]
        return MeshWarp(self.mesh, (1 - part) * a + part * b, np.mean(seen, axis=0) if seen else None)


def triangulated(vertices: np.ndarray, mask: np.ndarray | None = None) -> np.ndarray:
    """Delaunay triangles (T, 3) of vertices (V, 2), clockwise as they are seen; without those whose middle is outside of a mask (h, w).

    Raises
    ------
    RegionError
        When there are fewer than three vertices, or all lie on a line.
    """
    if len(vertices) < 3:
        raise RegionError(f"A mesh needs at least three vertices; this one has {len(vertices)}. Add some, or make the spacing smaller.")
    try:
        found = scipy.spatial.Delaunay(vertices).simplices.astype(np.int64)
    except scipy.spatial.QhullError as why:
        raise RegionError("The mesh's vertices lie on one line; add one beside it.") from why
    a, b, c = (vertices[found[:, k]] for k in range(3))
    area = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (c[:, 0] - a[:, 0]) * (b[:, 1] - a[:, 1])
    found[area < 0] = found[area < 0][:, ::-1]
    found = found[np.abs(area) > 1e-6]
    if mask is not None:
        middle = np.floor(vertices[found].mean(1)).astype(int)
        h, w = mask.shape
        middle = np.clip(middle, 0, [w - 1, h - 1])
        found = found[mask[middle[:, 1], middle[:, 0]] > 0]
    return found


def usual_spacing(area: float) -> float:
    """Pixels between the vertices of a mesh that is laid into so many square pixels, when nobody says otherwise: about 200 vertices."""
    return float(np.clip(np.sqrt(area / 200), 14, 64))


def laid(mask: np.ndarray, spacing: float, outline: bool = True, texture: np.ndarray | None = None, own: np.ndarray | None = None) -> np.ndarray:
    """Vertices (V, 2) for a region.

    Parameters
    ----------
    mask : (h, w) uint8, non-zero in the region; holes and several shapes are respected.
    spacing : pixels between vertices.
    outline : put vertices on the outline too.
    texture : (h, w) how much there is to hold on to; where it is given, vertices are moved to the richest place near each.
    own : (n, 2) vertices that are given; they come first, and none is laid close to them.

    Raises
    ------
    RegionError
        When the spacing cannot be used.
    """
    if not LEAST_SPACING <= spacing <= 10_000:
        raise RegionError(f"The spacing of the mesh is {spacing:g} pixels; choose {LEAST_SPACING:g} or more.")
    inside = (mask > 0).astype(np.uint8)
    area = int(inside.sum())
    if area / (spacing * spacing * 0.87) > MOST_VERTICES:
        raise RegionError(f"A spacing of {spacing:g} pixels would give more than {MOST_VERTICES} vertices here; "
                          f"choose {np.sqrt(area / MOST_VERTICES / 0.87):.0f} or more.")
    ys, xs = np.nonzero(inside)
    if not len(xs):
        raise RegionError("The region is empty; draw it round the surface.")
    rim: list[np.ndarray] = []
    if outline:
        for line in cv2.findContours(inside, cv2.RETR_CCOMP, cv2.CHAIN_APPROX_NONE)[0]:
            rim.append(_spread(line[:, 0].astype(float) + 0.5, spacing))
    row = spacing * np.sqrt(3) / 2
    (x0, x1), (y0, y1) = (xs.min(), xs.max() + 1), (ys.min(), ys.max() + 1)
    rows = []
    for k, y in enumerate(np.arange((y0 + y1) / 2 % row + y0 - row, y1 + row, row)):
        x = np.arange((x0 + x1) / 2 % spacing + x0 - spacing, x1 + spacing, spacing) + (k % 2) * spacing / 2
        rows.append(np.column_stack([x, np.full(len(x), y)]))
    grid = np.concatenate(rows)
    clear = cv2.distanceTransform(cv2.copyMakeBorder(inside, 1, 1, 1, 1, cv2.BORDER_CONSTANT), cv2.DIST_L2, 5)[1:-1, 1:-1]
    if texture is not None:
        grid = _moved_to_texture(grid, texture, spacing / 3)
    h, w = mask.shape
    at = np.floor(grid).astype(int)
    ok = ((at >= 0) & (at < [w, h])).all(1)
    grid = grid[ok]
    depth = clear[at[ok, 1], at[ok, 0]]
    grid = grid[depth > (0.6 * spacing if outline else 0)]
    vertices = np.concatenate([*rim, grid])
    if own is not None and len(own):
        far = scipy.spatial.cKDTree(own).query(vertices)[0]
        vertices = np.concatenate([own, vertices[far > _APART * spacing]])
    return vertices


def _spread(line: np.ndarray, spacing: float) -> np.ndarray:
    """Points about `spacing` apart on a closed line (n, 2), its corners among them."""
    corners = cv2.approxPolyDP(line.astype(np.float32)[:, None], 0.1 * spacing, True)[:, 0].astype(float)
    out = []
    for a, b in zip(corners, np.roll(corners, -1, axis=0)):
        count = max(1, round(float(np.linalg.norm(b - a)) / spacing))
        out.append(a + (b - a) * (np.arange(count) / count)[:, None])
    points = np.concatenate(out)
    kept: list[np.ndarray] = []
    for p in points:  # corners may lie close together
        if all(np.linalg.norm(p - q) > 0.4 * spacing for q in kept):
            kept.append(p)
    return np.array(kept)


def _moved_to_texture(grid: np.ndarray, texture: np.ndarray, reach: float) -> np.ndarray:
    h, w = texture.shape
    r = int(reach)
    out = grid.copy()
    for k, (x, y) in enumerate(grid):
        x0, y0, x1, y1 = max(0, int(x) - r), max(0, int(y) - r), min(w, int(x) + r + 1), min(h, int(y) + r + 1)
        if x1 - x0 > 2 and y1 - y0 > 2:
            part = texture[y0:y1, x0:x1]
            if part.max() > 0:
                j, i = np.unravel_index(part.argmax(), part.shape)
                out[k] = x0 + i + 0.5, y0 + j + 0.5
    return out
