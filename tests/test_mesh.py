"""Meshes: laid, warped, tracked, pegged, tracked again, edited, kept and handed on."""

import csv
import tempfile
import unittest
from dataclasses import replace
from functools import cache
from pathlib import Path
from unittest.mock import patch

import cv2
import numpy as np
import trimesh
from pxr import Usd, UsdGeom
from scipy.interpolate import BSpline, RBFInterpolator
from scipy.spatial import Delaunay

from tests.helpers import moved
from tests.scenes import SIZE, FramesPlate, texture
from tests.test_bending import Numbered
from tests.test_motions import Conformance
from tests.waves import LAST, QUAD, REFERENCE, filmed, waved
from wertis.cli.main import main
from wertis.core import compiled
from wertis.core.blas import single_threaded
from wertis.core.errors import DeliverError, RegionError, WertisError
from wertis.core.exchange import animated_mesh
from wertis.core.geometry import bspline
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, evaluate
from wertis.core.geometry.mesh import Mesh, MeshFix, MeshMotion, MeshWarp, laid, triangulated
from wertis.core.geometry.motion import Motion
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.jobs.export import animated_mesh as exported
from wertis.core.jobs.export import export_mesh
from wertis.core.jobs.mesh_tracking import laid_mesh
from wertis.core.jobs.retrack import out_of_date, retrack
from wertis.core.jobs.tracking import runs_from, tracked
from wertis.core.repair.pegs import PeggedMotion
from wertis.core.shot import edits, meshes, pegs, store
from wertis.core.shot.document import PlateRef, Shot
from wertis.core.shot.meshes import MeshSettings, MeshSolution, PegLayer, vertices_on
from wertis.core.shot.resolve import motion_of
from wertis.core.track.mesh.equations import GrainLeft, SurfacePrior, photometric_equations, plain_equations
from wertis.core.track.mesh.reference import MeshReference, with_own_pictures
from wertis.core.track.mesh.run import bend_of, stiffness_of, track_mesh
from wertis.core.track.mesh.tile_pass import mesh_pass, plain_mesh_pass
from wertis.core.track.mesh.tracker import MeshTracker, surrounded
from wertis.core.track.mesh.two_sided import TwoSidedMesh

MASK = cv2.fillPoly(np.zeros((SIZE[1], SIZE[0]), np.uint8), [QUAD.astype(np.int32)], 255)


@cache
def plate() -> Numbered:
    return Numbered()


def untracked(settings: MeshSettings | None = None) -> Shot:
    made = Shot(plate=PlateRef(path="/nowhere/wave", first=REFERENCE, last=LAST, size=SIZE), range=(REFERENCE, LAST))
    made, track = edits.add_track(made, QUAD, REFERENCE, "Sail")
    return edits.set_settings(made, track.id, settings or MeshSettings())


@cache
def shot() -> Shot:
    """The wave tracked as a mesh."""
    made = untracked()
    return tracked(made, made.tracks[0].id, plate(), runs_from(made, made.tracks[0], REFERENCE, "both"))


def solution(made: Shot) -> MeshSolution:
    found = made.tracks[0].solution
    assert isinstance(found, MeshSolution)
    return found


def places(made: Shot, frame: int) -> np.ndarray:
    found = vertices_on(made.tracks[0], frame)
    assert found is not None
    return found


def middle(made: Shot) -> int:
    """The vertex nearest to the middle."""
    v = solution(made).vertices
    return int(np.argmin(np.linalg.norm(v - v.mean(0), axis=1)))


class SplineTest(unittest.TestCase):
    """The lattice against SciPy's B-splines and dense linear algebra, and the loops in C against their twins."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(4)
        self.lattice = Lattice.over(np.array([[100.0, 50], [420, 260]]), 30)
        self.values = self.lattice.identity + self.rng.normal(0, 4, (*self.lattice.shape, 2))
        self.points = self.rng.uniform([100, 50], [420, 260], (60, 2))

    def test_values_are_those_of_scipys_tensor_product_spline(self) -> None:
        lattice = self.lattice
        knots = [start + lattice.step * (np.arange(n + 4) - 2) for start, n in ((lattice.left, lattice.columns), (lattice.top, lattice.rows))]
        x, y = (BSpline.design_matrix(self.points[:, k], knots[k], 3).toarray() for k in (0, 1))
        wanted = np.einsum("nj,ni,jic->nc", y, x, self.values)
        np.testing.assert_allclose(bspline.evaluate(lattice, self.values, self.points)[0], wanted, atol=1e-9)

    def test_the_loops_in_c_give_what_numpy_gives(self) -> None:
        beyond = self.rng.uniform([-80, -80], [700, 500], (80, 2))
        for points in (self.points, beyond):
            ours, slopes = bspline.evaluate(self.lattice, self.values, points, slopes=True)
            plain, plain_slopes = bspline.plainly_evaluated(self.lattice, self.values, points, slopes=True)
            np.testing.assert_allclose(ours, plain, atol=1e-9)
            np.testing.assert_allclose(slopes, plain_slopes, atol=1e-9)

    def test_a_finer_lattice_has_the_same_map(self) -> None:
        coarse = self.lattice.coarser
        values = coarse.identity + self.rng.normal(0, 5, (*coarse.shape, 2))
        fine = bspline.refined(values, self.lattice.shape)
        np.testing.assert_allclose(bspline.evaluate(self.lattice, fine, self.points)[0], bspline.evaluate(coarse, values, self.points)[0], atol=1e-9)

    def _equations(self, lattice: Lattice) -> NormalEquations:
        rng = np.random.default_rng(9)
        made = NormalEquations(lattice, max(DIFFERENCES))
        a = rng.normal(0, 1, (200, 2, 2))
        a = a @ a.transpose(0, 2, 1)
        made.add_places(rng.uniform([100, 50], [420, 260], (200, 2)), np.stack([a[:, 0, 0], a[:, 0, 1], a[:, 1, 1]], -1), rng.normal(0, 1, (200, 2)))
        for kinds in DIFFERENCES.values():
            for kernel, count in kinds:
                made.add_difference(kernel, count * rng.uniform(0.5, 2, (lattice.rows - kernel.shape[0] + 1, lattice.columns - kernel.shape[1] + 1)))
        made.add_diagonal(np.full(lattice.shape, 0.01))
        return made

    def test_equations_are_the_same_without_the_compiled_loops(self) -> None:
        for lattice in (self.lattice, Lattice(0.0, -40.0, 30.0, 12, 17)):
            ours = self._equations(lattice)
            with patch.object(compiled, "LIBRARY", None):
                plain = self._equations(lattice)
            np.testing.assert_allclose(ours.bands, plain.bands, atol=1e-9)
            np.testing.assert_allclose(ours.right, plain.right, atol=1e-9)

    def test_the_covariance_is_the_dense_inverses(self) -> None:
        made = self._equations(self.lattice)
        found = made.solve()
        size = len(made.bands)
        dense = np.zeros((size, size))
        for k in range(made.bands.shape[1]):
            at = np.arange(size - k)
            dense[at + k, at] = dense[at, at + k] = made.bands[:size - k, k]
        np.testing.assert_allclose(dense @ made._in_order(found), made.right, atol=1e-8)
        inverse = np.linalg.inv(dense)
        basis = np.zeros((5, self.lattice.rows * self.lattice.columns))
        np.put_along_axis(basis, *self.lattice.local_basis(self.points[:5]), axis=1)
        order = made._number(np.arange(basis.shape[1]))
        for k, covariance in enumerate(made.covariance(self.points[:5])):
            wanted = [[basis[k] @ inverse[np.ix_(order + a, order + b)] @ basis[k] for b in (0, 1)] for a in (0, 1)]
            np.testing.assert_allclose(covariance, wanted, atol=1e-10)

    def test_a_look_at_the_tiles_is_the_same_without_the_compiled_loops(self) -> None:
        frames = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in plate().pictures[:3]]
        reference, picture = MeshReference(Pyramid(frames[0]), MASK), Pyramid(frames[2])
        lattice = Lattice.over(QUAD, 24)
        values = lattice.identity + self.rng.normal(0, 1, (*lattice.shape, 2))
        held = np.zeros(frames[0].shape, np.float32)
        held[:, :200] = 1
        for level in (0, 1):
            tiles = reference.tiles(level)
            args = picture[level], tiles, tiles.usable, lattice, values, cv2.resize(held, picture[level].shape[::-1])
            ours = mesh_pass(*args)
            with patch.object(compiled, "LIBRARY", None):
                plain = mesh_pass(*args)
            own = tiles.own[tiles.usable]
            np.testing.assert_allclose(ours.gain * own, plain.gain * own, rtol=1e-3, atol=0.3)
            np.testing.assert_allclose(ours.held, plain.held, atol=0.02)
            np.testing.assert_array_equal(ours.whole, plain.whole)
            np.testing.assert_allclose(ours.likeness, plain.likeness, atol=0.02)
            np.testing.assert_allclose(ours.variance, plain.variance, rtol=0.02, atol=0.3)
            sound = np.abs(plain.gain) > 0.2
            np.testing.assert_allclose(ours.pull[sound], plain.pull[sound], rtol=0.02, atol=0.01 * float(np.abs(plain.pull[sound]).max()))

    def test_tiles_blurred_are_the_same_without_the_compiled_loops(self) -> None:
        reference = MeshReference(Pyramid(cv2.cvtColor(plate().pictures[0], cv2.COLOR_RGB2GRAY)), MASK)
        for level in (0, 1):
            tiles = reference.tiles(level)
            along = self.rng.uniform(-12, 12, (len(tiles), 2))
            along[::5] = 0
            ours, plain = with_own_pictures(tiles, copied=False), with_own_pictures(tiles, copied=False)
            for made, blur in ((ours, reference.blur_into), (plain, reference.plainly_blur_into)):
                blur(made, tiles, np.arange(len(tiles)), along, 7)
            for name in ("light", "slope_x", "slope_y", "own", "energy", "structure"):
                np.testing.assert_array_equal(getattr(ours, name)[::5], getattr(tiles, name)[::5], err_msg=name)
            np.testing.assert_allclose(ours.own, plain.own, atol=0.02)
            for name, unit in (("slope_x", 1.0), ("slope_y", 1.0), ("structure", 100.0)):
                np.testing.assert_allclose(getattr(ours, name), getattr(plain, name), atol=0.02 * unit, rtol=1e-3, err_msg=name)
            products = np.einsum("trp,tsp->trs", ours.light, ours.light)[ours.own > 1]
            np.testing.assert_allclose(products, np.tile(np.eye(4), (len(products), 1, 1)), atol=1e-4)

    def test_photometric_equations_are_the_same_without_the_compiled_loops(self) -> None:
        """Of tiles as they were measured, some of them turned away, half held out, blurred or not, with templates that lie off or not."""
        frames = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in plate().pictures[:2]]
        reference, picture = MeshReference(Pyramid(frames[0]), MASK), Pyramid(frames[1])
        lattice = Lattice.over(QUAD, 30.0)
        values = lattice.identity + self.rng.normal(0, 3, lattice.identity.shape)
        held = np.zeros(frames[0].shape, np.float32)
        held[:, :200] = 1
        tiles = reference.tiles(0)
        tiles.template_error = self.rng.uniform(0, 1, len(tiles))
        measured = mesh_pass(picture[0], tiles, tiles.usable, lattice, values, held)
        jacobian = evaluate(lattice, values, tiles.centre[tiles.usable], slopes=True)[1]
        assert jacobian is not None
        jacobian[::7] *= [[-1.0, 1.0], [-1.0, 1.0]]
        blurred = GrainLeft(*self.rng.uniform(0.2, 1, (3, len(tiles.usable))))
        for left, off in ((None, False), (blurred, False), (None, True), (blurred, True)):
            ours, plain = (f(tiles, tiles.usable, measured, jacobian, 3.0, left, off) for f in (photometric_equations, plain_equations))
            self.assertGreater(np.count_nonzero(ours.weight), 100)
            self.assertGreater(np.count_nonzero(ours.weight == 0), 100)
            for name in ("weight", "information", "pull", "relative_correlation"):
                np.testing.assert_allclose(getattr(ours, name), getattr(plain, name), rtol=1e-5, atol=1e-9, err_msg=name)  # the tiles are single precision

    def test_what_is_expected_of_a_surface_is_the_same_without_the_compiled_loops(self) -> None:
        for size, orders, fixed in (((700, 300), {2: 1e-4, 4: 1.0}, False), ((300, 700), {2: 1e-3, 3: 1.0}, False), ((300, 300), {2: 1.0, 4: 1.0}, True)):
            lattice = Lattice.over(np.array([[0, 0], size]), 40.0)
            prior = SurfacePrior(orders, 0.7, fixed, 0.4)
            values = lattice.identity + self.rng.normal(0, 2, lattice.identity.shape)
            predicted = values + self.rng.normal(0, 2, values.shape)
            hidden, known = self.rng.uniform(0, 1, (2, *lattice.shape))
            ours, plain = NormalEquations(lattice, max(orders)), NormalEquations(lattice, max(orders))
            prior.add(ours, values, predicted, hidden, known)
            prior.add_plainly(plain, values, predicted, hidden, known)
            for name in ("bands", "right"):
                meant = getattr(plain, name)
                np.testing.assert_allclose(getattr(ours, name), meant, atol=1e-11 * float(np.abs(meant).max()), err_msg=name)

    def test_a_map_finer_than_a_tiles_pixels_is_followed_as_well(self) -> None:
        reference = MeshReference(Pyramid(cv2.cvtColor(plate().pictures[0], cv2.COLOR_RGB2GRAY)), MASK)
        tiles = reference.tiles(0)
        some = tiles.usable[::40].copy()
        lattice = Lattice.over(QUAD, 0.6)
        ours, plain = (f(reference.pyramid[0], tiles, some, lattice, lattice.identity, None) for f in (mesh_pass, plain_mesh_pass))
        np.testing.assert_allclose(ours.gain * tiles.own[some], plain[:, 0], rtol=1e-3, atol=0.3)
        np.testing.assert_allclose(ours.gain, 1, atol=0.01)


class HiddenVerticesTest(unittest.TestCase):
    """What is hidden between parts that are seen can hardly go anywhere; what hangs out may fold away."""

    def test_only_what_the_measured_vertices_do_not_surround_may_fold(self) -> None:
        vertices = np.array([[x, y] for y in range(4) for x in range(4)], float)
        measured = np.ones(16, bool)
        measured[[5, 6, 15]] = False  # two in the middle, and a corner
        np.testing.assert_array_equal(surrounded(vertices, measured)[[5, 6, 15]], [True, True, False])

    def test_what_is_measured_on_one_line_surrounds_nothing(self) -> None:
        vertices = np.array([[x, y] for y in range(3) for x in range(6)], float)
        self.assertFalse(surrounded(vertices, vertices[:, 1] == 0)[6:].any())


class TurnedTracker:
    """Stands in for a mesh tracker whose way back is known: what it was turned round with, and its answers."""

    def __init__(self, back: dict[int, MeshFix]) -> None:
        self.back, self.turns, self.values = back, 0, np.zeros((1, 1, 2))

    def turn_back(self, values: np.ndarray, after: np.ndarray) -> None:
        self.turns += 1


class TwoSidedTest(unittest.TestCase):
    """A stretch on which part of the mesh was hidden is answered from both its ends."""

    mesh = Mesh(np.array([[x, y] for y in range(3) for x in range(4)], float) * 40)
    hidden = mesh.vertices[:, 0] > 60

    def _fix(self, off: float, measured: np.ndarray, error: float = 0.05) -> MeshFix:
        """Everything moved by nothing but what is not `measured`, which lies off by some pixels."""
        away = np.where(measured, 0.0, off)
        return MeshFix(self.mesh, self.mesh.vertices + away[:, None] * [1.0, 0.0], np.where(measured, error, max(abs(off), error)), measured, 1.0)

    def _answers(self, ahead: dict[int, MeshFix], back: dict[int, MeshFix]) -> tuple[TurnedTracker, dict[int, MeshFix]]:
        tracker = TurnedTracker(back)
        both = TwoSidedMesh(tracker)  # type: ignore[arg-type]
        for frame, fix in ahead.items():
            both.keep(frame, fix)
        return tracker, dict(both.answers(back.get))

    def test_what_was_found_late_is_taken_from_the_end_where_all_was_seen(self) -> None:
        every, some = np.ones(12, bool), ~self.hidden
        ahead = {1: self._fix(0, every), 2: self._fix(3, some), 3: self._fix(20, some), 4: self._fix(40, some)} | {f: self._fix(0, every) for f in (5, 6)}
        back = {4: self._fix(0, every), 3: self._fix(4, some), 2: self._fix(12, some)}
        tracker, better = self._answers(ahead, back)
        self.assertEqual((tracker.turns, set(better)), (1, {2, 3, 4}))
        self.assertTrue(better[4].measured.all())
        np.testing.assert_array_equal(better[4].places, self.mesh.vertices)
        for frame, least in ((2, 3.0), (3, 4.0)):  # hidden from both: between the two, nearer to the surer, and no surer than that
            away = np.linalg.norm(better[frame].places - self.mesh.vertices, axis=1)
            self.assertFalse(better[frame].measured[self.hidden].any())
            self.assertTrue((away[self.hidden] < 5).all() and (away[~self.hidden] == 0).all())
            self.assertTrue((better[frame].errors[self.hidden] >= least).all())

    def test_of_two_places_the_one_that_was_followed_there_counts(self) -> None:
        every, some = np.ones(12, bool), ~self.hidden
        wrong = replace(self._fix(15, some, 0.1), measured=every, errors=np.full(12, 0.1))  # taken for found, 15 pixels off
        ahead = {1: self._fix(0, every), 2: self._fix(30, some), 3: wrong, 4: self._fix(30, some), 5: self._fix(0, every), 6: self._fix(0, every)}
        tracker, better = self._answers(ahead, {f: self._fix(0, every) for f in (4, 3, 2)})
        self.assertEqual(tracker.turns, 1)
        np.testing.assert_array_equal(better[3].places, self.mesh.vertices)

    def test_a_place_that_one_side_alone_measures_where_its_map_is_wrong_all_round_does_not_count(self) -> None:
        every, some = np.ones(12, bool), ~self.hidden
        lone = np.zeros(12, bool)
        lone[2] = True  # by chance, beside vertices that this side does not see and has ten pixels off
        astray = replace(self._fix(10, lone), places=self.mesh.vertices + [10.0, 0.0], errors=np.full(12, 10.0))
        ahead = {f: self._fix(off, every if f in (1, 5, 6) else some) for f, off in zip(range(1, 7), (0, 30, 1, 30, 0, 0), strict=True)}
        back = {4: self._fix(0, every), 3: astray, 2: self._fix(0, every)}
        _, better = self._answers(ahead, back)
        found = better.get(3, ahead[3])
        self.assertFalse(found.measured[2])
        self.assertLess(np.linalg.norm(found.places - self.mesh.vertices, axis=1).max(), 2)

    def test_what_neither_side_sees_goes_by_the_one_that_is_right_round_it(self) -> None:
        every, some = np.ones(12, bool), ~self.hidden
        right, wrong = self._fix(0.5, some, 0.05), self._fix(20, some)
        wrong = replace(wrong, places=self.mesh.vertices + [20.0, 0.0], measured=np.zeros(12, bool), errors=np.full(12, 20.0))
        right = replace(right, errors=np.where(some, 0.05, 20.0))
        ahead = {1: self._fix(0, every), 2: self._fix(30, some), 3: right, 4: self._fix(30, some), 5: self._fix(0, every), 6: self._fix(0, every)}
        _, better = self._answers(ahead, {4: self._fix(0, every), 3: wrong, 2: self._fix(0, every)})
        found = better.get(3, right)
        self.assertLess(np.linalg.norm(found.places - self.mesh.vertices, axis=1)[self.hidden].max(), 1.0)

    def test_nothing_is_tracked_twice_where_all_came_back_where_it_was_expected(self) -> None:
        every, some = np.ones(12, bool), ~self.hidden
        ahead = {1: self._fix(0, every), 2: self._fix(1, some), 3: self._fix(2, some), 4: self._fix(0, every), 5: self._fix(0, every)}
        tracker, better = self._answers(ahead, {})
        self.assertEqual((tracker.turns, better), (0, {}))

    def test_what_never_comes_back_stays_as_it_is(self) -> None:
        ahead = {1: self._fix(0, np.ones(12, bool)), 2: self._fix(30, ~self.hidden), 3: self._fix(60, ~self.hidden)}
        tracker, better = self._answers(ahead, {})
        self.assertEqual((tracker.turns, better), (0, {}))

    def test_a_frame_that_cannot_be_read_again_keeps_its_answer(self) -> None:
        every, some = np.ones(12, bool), ~self.hidden
        ahead = {1: self._fix(0, every), 2: self._fix(30, some), 3: self._fix(40, some), 4: self._fix(0, every)}
        _, better = self._answers(ahead, {3: self._fix(0, every)})
        self.assertEqual(set(better), {3})


class FoldTest(unittest.TestCase):
    """Two fifths of a made sheet fold over the rest and open again; what lies under the flap is hidden, the flap shows its back."""

    def test_what_opens_again_is_found_again_to_a_tenth_of_a_pixel(self) -> None:
        (w, h), (x0, y0), count = (300, 220), (90, 50), 20
        rng = np.random.default_rng(3)
        art, back = texture("coffee"), cv2.GaussianBlur(rng.integers(0, 255, (h, w, 3)).astype(np.uint8), (0, 0), 2)
        x, frames, edges = np.arange(w), [], []
        for k in range(count):
            crease = w * (1 - 0.42 * np.sin(np.pi * k / (count - 1)) ** 2)
            beneath = 2 * crease - x  # of the flap, the column whose back is seen
            flap = ((x <= crease) & (x >= 2 * crease - w) & (beneath >= 0))[None, :, None]
            columns = np.tile(np.clip(beneath, 0, w - 1).astype(np.float32), (h, 1))
            rows = np.tile(np.arange(h, dtype=np.float32)[:, None], (1, w))
            sheet = np.where(flap, cv2.remap(back, columns, rows, cv2.INTER_LINEAR), art)
            frame = np.full((SIZE[1], SIZE[0], 3), 90.0)
            frame[y0:y0 + h, x0:x0 + w] = np.where((x <= crease)[None, :, None], sheet, 90)
            frames.append(np.clip(frame + rng.normal(0, 1.5, frame.shape), 0, 255).astype(np.uint8))
            edges.append(x0 + 2 * crease - w)
        mask = np.zeros((SIZE[1], SIZE[0]), np.uint8)
        mask[y0 + 4:y0 + h - 4, x0 + 4:x0 + w - 4] = 255
        mesh = Mesh(laid(mask, 28))
        with single_threaded():
            found = dict(track_mesh(FramesPlate(frames), mesh, mask, 0, range(1, count)))
        for k, fix in found.items():
            seen, under = mesh.vertices[:, 0] < edges[k] - 6, mesh.vertices[:, 0] > edges[k] + 12
            assert fix.places is not None
            away = np.linalg.norm(fix.places - mesh.vertices, axis=1)
            self.assertLess(np.sqrt((away[seen] ** 2).mean()), 0.15, k)
            if edges[k] < 300:
                self.assertLess(fix.measured[under].mean(), 0.1, k)
                self.assertGreater(fix.errors[under].min(), 5, k)


class MeshGeometryTest(unittest.TestCase):
    def test_triangles_are_delaunays_and_turn_as_they_are_seen(self) -> None:
        vertices = laid(MASK, 30)
        ours = triangulated(vertices)
        self.assertEqual({frozenset(t) for t in ours.tolist()}, {frozenset(t) for t in Delaunay(vertices).simplices.tolist()})
        a, b, c = (vertices[ours[:, k]] for k in range(3))
        self.assertTrue((np.cross(np.c_[b - a, np.zeros(len(a))], np.c_[c - a, np.zeros(len(a))])[:, 2] > 0).all())

    def test_holes_and_several_shapes_are_respected(self) -> None:
        mask = MASK.copy()
        cv2.circle(mask, (240, 165), 45, 0, -1)
        cv2.rectangle(mask, (400, 20), (460, 120), 255, -1)
        vertices = laid(mask, 20)
        at = np.clip(np.floor(vertices).astype(int), 0, np.array(SIZE) - 1)
        near = cv2.dilate(mask, np.ones((3, 3), np.uint8))
        self.assertTrue((near[at[:, 1], at[:, 0]] > 0).all())
        triangles = triangulated(vertices, mask)
        middles = vertices[triangles].mean(1)
        self.assertFalse((np.linalg.norm(middles - [240, 165], axis=1) < 40).any())
        self.assertTrue((vertices[:, 0] > 395).any())

    def test_spacing_is_kept_and_the_outline_has_vertices_only_when_wanted(self) -> None:
        inner, whole = laid(MASK, 25, outline=False), laid(MASK, 25)
        self.assertGreater(len(whole), len(inner))
        far = [cv2.pointPolygonTest(QUAD.astype(np.float32), (float(x), float(y)), True) for x, y in whole]
        self.assertGreater(np.sum(np.abs(far) < 2), 25)
        near = np.sort(np.linalg.norm(inner[:, None] - inner[None], axis=2), axis=1)[:, 1]
        np.testing.assert_allclose(np.median(near), 25, rtol=0.05)

    def test_between_vertices_it_bends_as_little_as_a_thin_plate(self) -> None:
        vertices = laid(MASK, 26)
        to = waved(vertices, 1004)
        plane = RBFInterpolator(vertices, to, kernel="thin_plate_spline")  # SciPy's, for comparison
        points = np.random.default_rng(1).uniform([140, 95], [340, 235], (300, 2))
        ours = MeshWarp(Mesh(vertices), to).forward(points)
        self.assertLess(np.abs(ours - plane(points)).max(), 0.25)
        away = np.linalg.norm(ours - waved(points, 1004), axis=1)
        self.assertLess(np.sqrt((away ** 2).mean()), np.sqrt((np.linalg.norm(plane(points) - waved(points, 1004), axis=1) ** 2).mean()) + 0.01)
        np.testing.assert_allclose(MeshWarp(Mesh(vertices), to).forward(vertices), to, atol=1e-3)

    def test_what_is_folded_over_shows_once_and_never_the_part_beneath(self) -> None:
        vertices = laid(MASK, 22)
        hinge = 270.0
        to = vertices.copy()
        over = vertices[:, 0] > hinge
        to[over, 0] = 2 * hinge - vertices[over, 0]  # turned over to the left, as a page
        warp = MeshWarp(Mesh(vertices), to, (~over).astype(float))
        self.assertTrue(warp.folds)
        found = warp.inverse_map((150, 110, 330, 220))
        there = np.isfinite(found[..., 0])
        self.assertTrue(there[:, :80].mean() > 0.95)
        self.assertLess(np.nanmax(found[..., 0]), hinge + 24)
        self.assertFalse(there[:, 160:].any())  # nothing of it is there any more

    def test_drawing_is_the_same_without_the_compiled_loops(self) -> None:
        vertices = laid(MASK, 30)
        warp = MeshWarp(Mesh(vertices), waved(vertices, 1003))
        ours = warp.inverse_map((150, 110, 240, 180))
        with patch.object(compiled, "LIBRARY", None):
            plain = MeshWarp(Mesh(vertices), waved(vertices, 1003)).inverse_map((150, 110, 240, 180))
        np.testing.assert_allclose(ours, plain, atol=0.1)

    def test_bad_meshes_are_refused_with_what_to_do(self) -> None:
        for call, words in ((lambda: Mesh(np.array([[0.0, 0], [1, 1]])), "at least three vertices"),
                            (lambda: triangulated(np.array([[0.0, 0], [1, 1], [2, 2]])), "on one line"),
                            (lambda: laid(MASK, 2), "choose 6 or more"),
                            (lambda: laid(np.full((4000, 4000), 255, np.uint8), 6), "more than 4000 vertices"),
                            (lambda: laid(np.zeros((50, 50), np.uint8), 20), "empty")):
            with self.assertRaisesRegex(RegionError, words):
                call()


class MeshMotionTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        mesh = Mesh(laid(MASK, 30))
        return MeshMotion(1001, mesh, {f: waved(mesh.vertices, f) for f in range(1002, 1009)},
                          {f: np.full(len(mesh.vertices), 0.05) for f in range(1002, 1009)}, {})


class PeggedMotionTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        inner = MeshMotionTest().motion()
        assert isinstance(inner, MeshMotion)
        to = waved(inner.mesh.vertices, 1005)
        return PeggedMotion(inner, {1005: {3: to[3] + [2, 1], 40: to[40] + [-2, 2]}, 1007: {40: waved(inner.mesh.vertices, 1007)[40] + [1, -1]}})


class MeshTrackingTest(unittest.TestCase):
    def test_it_follows_a_wave_to_a_tenth_of_a_pixel_and_knows_it(self) -> None:
        made = shot()
        found = solution(made)
        self.assertTrue(found.good.all())
        inside = np.random.default_rng(3).uniform([135, 95], [345, 235], (200, 2))
        errors, stated = [], []
        for frame in range(REFERENCE + 1, LAST + 1):
            warp = moved(made.tracks[0]).at(frame)
            assert warp is not None
            errors.append(np.linalg.norm(warp.forward(inside) - waved(inside, frame), axis=1))
            stated.append(moved(made.tracks[0]).uncertainty(inside, frame))
        away, said = np.concatenate(errors), np.concatenate(stated)
        self.assertLess(np.sqrt((away ** 2).mean()), 0.15)
        self.assertGreater((away <= 2 * said).mean(), 0.8)
        self.assertLess(np.median(said), 0.3)

    def test_what_passes_in_front_is_told_and_does_not_drag(self) -> None:
        frames = [f.copy() for f in plate().pictures]
        noise = np.random.default_rng(1).integers(0, 255, (SIZE[1], 70, 3), np.uint8)
        for k, frame in enumerate(frames[2:7], 2):
            frame[:, 170 + 6 * k:240 + 6 * k] = cv2.GaussianBlur(noise, (0, 0), 1.5)
        grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in frames]
        mesh = Mesh(laid(MASK, 22))
        tracker = MeshTracker(grey[0], MASK, mesh, 18)
        for k in range(1, len(grey)):
            fix = tracker.feed(grey[k])
            assert fix.places is not None
            truth = waved(mesh.vertices, REFERENCE + k)
            away = np.linalg.norm(fix.places - truth, axis=1)
            behind = (truth[:, 0] > 185 + 6 * k) & (truth[:, 0] < 225 + 6 * k) if 2 <= k < 7 else np.zeros(len(truth), bool)
            if behind.any():
                self.assertLess(fix.measured[behind].mean(), 0.2)
                self.assertGreater(fix.errors[behind].min(), 0.4)
            within = np.array([cv2.pointPolygonTest(QUAD.astype(np.float32), (float(x), float(y)), True) > 12 for x, y in mesh.vertices])
            clear = within & ~((truth[:, 0] > 155 + 6 * k) & (truth[:, 0] < 255 + 6 * k))
            self.assertLess(np.sqrt((away[clear] ** 2).mean()), 0.25, k)
        self.assertGreater(fix.measured.mean(), 0.9)  # found again
        self.assertLess(np.sqrt((away[within] ** 2).mean()), 0.3)

    def test_a_frame_without_the_surface_is_empty(self) -> None:
        grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in plate().pictures[:3]]
        mesh = Mesh(laid(MASK, 30))
        tracker = MeshTracker(grey[0], MASK, mesh, 24)
        gone = cv2.GaussianBlur(np.random.default_rng(0).integers(0, 255, grey[0].shape, np.uint8), (0, 0), 2)
        fix = tracker.feed(gone)
        self.assertIsNone(fix.places)
        self.assertIn("of the region is seen", fix.reason)
        self.assertIsNotNone(tracker.feed(grey[2]).places)

    def test_held_out_pixels_do_not_exist(self) -> None:
        grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in plate().pictures[:3]]
        mesh = Mesh(laid(MASK, 30))
        held = np.zeros(grey[0].shape, np.uint8)
        held[:, :230] = 255
        fix = MeshTracker(grey[0], MASK, mesh, 24).feed(grey[1], held)
        self.assertFalse(fix.measured[mesh.vertices[:, 0] < 200].any())
        self.assertTrue(fix.measured[mesh.vertices[:, 0] > 260].mean() > 0.9)

    def test_blur_is_told_when_a_slow_surface_becomes_fast(self) -> None:
        """A picture that shifts by 3, 5 and then 14 pixels a frame, under a shutter open for half of it; the middles of the paths are the truth."""
        still = cv2.cvtColor(plate().pictures[0], cv2.COLOR_RGB2GRAY).astype(np.float32)
        steps = [0, 3, 3, 3, 5, 5, 5, 5, 14, 14, 14, 14]
        at, rng = np.cumsum(steps), np.random.default_rng(3)
        mesh = Mesh(laid(MASK, 26))
        tracker: MeshTracker | None = None
        for k, (middle, step) in enumerate(zip(at, steps, strict=True)):
            reach = 0.5 * (step or 3)
            shifts = middle + reach * ((np.arange(15) + 0.5) / 15 - 0.5)
            seen = np.mean([cv2.warpAffine(still, np.array([[1, 0, x], [0, 1, 0.0]]), SIZE, borderMode=cv2.BORDER_REPLICATE) for x in shifts], axis=0)
            grey = np.clip(np.rint(seen + rng.normal(0, 2, seen.shape)), 0, 255).astype(np.uint8)
            if tracker is None:
                tracker = MeshTracker(grey, MASK, mesh, 24)
                continue
            fix = tracker.feed(grey)
            assert fix.places is not None
            away = np.linalg.norm(fix.places - mesh.vertices - [middle, 0], axis=1)
            self.assertLess(np.median(away), 0.1 if k != 8 else 0.3, k)  # not foreseen to be so fast, that one is not asked
            self.assertEqual(tracker.blur.shutter > 0, k > 8, k)  # too short before that to be told from grain
        assert tracker is not None
        self.assertAlmostEqual(tracker.blur.shutter, 0.5, delta=0.13)

    def test_a_bare_region_is_refused(self) -> None:
        bare = np.full((SIZE[1], SIZE[0]), 120, np.uint8)
        with self.assertRaisesRegex(RegionError, "no texture"):
            MeshTracker(bare, MASK, Mesh(laid(MASK, 30)), 24)

    def test_a_board_bends_less_than_cloth(self) -> None:
        self.assertAlmostEqual(stiffness_of(bend_of(37.0) or 0), 37.0)
        self.assertIsNone(bend_of(None))
        bends = []
        for stiffness in (0.0, 100.0):
            made = untracked(MeshSettings(stiffness=stiffness))
            made = tracked(made, made.tracks[0].id, plate(), [range(REFERENCE + 1, REFERENCE + 5)])
            at = places(made, REFERENCE + 4)
            flat = np.linalg.lstsq(np.c_[solution(made).vertices, np.ones(len(at))], at, rcond=None)[0]
            bends.append(np.abs(np.c_[solution(made).vertices, np.ones(len(at))] @ flat - at).mean())
        self.assertLess(bends[1], 0.5 * bends[0])

    def test_tracking_goes_on_from_what_is_known(self) -> None:
        made = untracked()
        ident = made.tracks[0].id
        made = tracked(made, ident, plate(), [range(REFERENCE + 1, REFERENCE + 4)])
        made = tracked(made, ident, plate(), runs_from(made, made.tracks[0], REFERENCE + 3, "forward"))
        self.assertEqual(list(solution(made).frames), list(range(REFERENCE, LAST + 1)))
        inner = np.array([cv2.pointPolygonTest(QUAD.astype(np.float32), (float(x), float(y)), True) > 12 for x, y in solution(made).vertices])
        np.testing.assert_allclose(places(made, LAST)[inner], places(shot(), LAST)[inner], atol=0.5)


class PegTest(unittest.TestCase):
    def test_a_peg_is_met_exactly_and_its_neighbours_follow(self) -> None:
        made, k = shot(), middle(shot())
        ident, frame = made.tracks[0].id, REFERENCE + 4
        before = places(made, frame)
        pegged = pegs.set_pegs(made, ident, frame, {k: before[k] + [6, -4]})
        after = places(pegged, frame)
        np.testing.assert_allclose(after[k], before[k] + [6, -4], atol=1e-3)
        step = np.linalg.norm(after - before, axis=1)
        far = np.linalg.norm(before - before[k], axis=1)
        spacing = solution(made).mesh.spacing
        self.assertGreater(step[(far > 0) & (far < 1.3 * spacing)].mean(), 2)
        self.assertLess(step[far > 6 * spacing].max(initial=0), 1)
        np.testing.assert_allclose(places(pegged, REFERENCE), places(made, REFERENCE), atol=1e-9)
        between = np.linalg.norm(places(pegged, frame - 2) - places(made, frame - 2), axis=1)[k]
        self.assertTrue(0.5 < between < 7.2)

    def test_tracking_again_passes_through_the_pegs_and_mends_what_was_wrong(self) -> None:
        made = shot()
        ident, frame = made.tracks[0].id, REFERENCE + 4
        found = solution(made)
        spoilt = found.places.copy()
        part = np.linalg.norm(found.vertices - found.vertices.mean(0), axis=1) < 45
        for row, f in enumerate(found.frames):
            spoilt[row, part] += np.array([1.5, 1.0]) * (f - REFERENCE)
        made = made.with_track(made.tracks[0].but(solution=found.but(places=spoilt)))
        numbers = np.flatnonzero(part)[:5]
        truth = waved(found.vertices, frame)
        pegged = pegs.set_pegs(made, ident, frame, {int(k): truth[k] for k in numbers})
        self.assertEqual([s.frames for s in out_of_date(pegged.tracks[0], pegged.range)], [range(REFERENCE + 1, frame), range(frame + 1, LAST + 1)])

        def wrong(x: Shot) -> float:
            between = range(REFERENCE + 1, frame)
            return float(np.mean([np.linalg.norm(places(x, f)[part] - waved(found.vertices, f)[part], axis=1).mean() for f in between]))

        again = [e.item for e in retrack(pegged, ident, plate())][-1]
        assert isinstance(again, Shot)
        self.assertLess(wrong(pegged), 0.75 * wrong(made))
        self.assertLess(wrong(again), 0.25 * wrong(made))
        for k in numbers:
            np.testing.assert_allclose(places(again, frame)[k], truth[k], atol=1e-3)
        self.assertEqual(out_of_date(again.tracks[0], again.range), [])
        self.assertIs(again.tracks[0].solution, pegged.tracks[0].solution)  # what was tracked at first is kept

    def test_pegs_are_cleared_by_frame_and_by_vertex(self) -> None:
        made = shot()
        ident, at = made.tracks[0].id, places(shot(), REFERENCE + 3)
        made = pegs.set_pegs(made, ident, REFERENCE + 3, {4: at[4] + 1, 9: at[9] + 1})
        made = pegs.set_pegs(made, ident, REFERENCE + 5, {4: at[4] + 3})
        self.assertEqual(made.tracks[0].layer(PegLayer).frames, [REFERENCE + 3, REFERENCE + 5])
        self.assertEqual(pegs.clear_pegs(made, ident, REFERENCE + 5).tracks[0].layer(PegLayer).frames, [REFERENCE + 3])
        self.assertEqual(set(pegs.clear_pegs(made, ident, None, {4}).tracks[0].layer(PegLayer).pegs[REFERENCE + 3]), {9})
        self.assertTrue(pegs.clear_pegs(made, ident).tracks[0].layer(PegLayer).empty)

    def test_what_cannot_be_pegged_is_said(self) -> None:
        made = shot()
        ident = made.tracks[0].id
        locked = pegs.set_locked(made, ident, {2})
        plane = untracked()
        for where, frame, peg, words in ((made, REFERENCE, {0: (1, 1)}, "reference frame"), (made, 3000, {0: (1, 1)}, "no answer"),
                                         (made, REFERENCE + 1, {9999: (1, 1)}, "no vertex 9999"), (locked, REFERENCE + 1, {2: (1, 1)}, "locked"),
                                         (made, REFERENCE + 1, {0: (99999, 1)}, "outside of the picture"),
                                         (plane, REFERENCE + 1, {0: (1, 1)}, "no tracked mesh")):
            with self.assertRaisesRegex(RegionError, words):
                pegs.set_pegs(where, where.tracks[0].id, frame, peg)
        with self.assertRaisesRegex(WertisError, "out of date"):
            list(retrack(made, ident, plate()))

    def test_vertices_are_added_removed_and_forgotten_and_the_rest_stays(self) -> None:
        made = shot()
        ident, count = made.tracks[0].id, len(solution(shot()).vertices)
        frame = REFERENCE + 4
        spot = np.array([233.3, 151.7])
        more = meshes.add_vertex(made, ident, waved(spot, frame), frame)
        self.assertEqual(len(solution(more).vertices), count + 1)
        np.testing.assert_allclose(places(more, LAST)[-1], waved(spot, LAST), atol=0.4)
        np.testing.assert_allclose(places(more, LAST)[:-1], places(made, LAST), atol=1e-3)
        pegged = pegs.set_pegs(more, ident, frame, {count: waved(spot, frame) + 2})
        less = meshes.remove_vertices(pegged, ident, {0, 1})
        self.assertEqual(set(less.tracks[0].layer(PegLayer).pegs[frame]), {count - 2})
        np.testing.assert_allclose(places(less, LAST)[:-3], places(pegged, LAST)[2:-1][:-2], atol=0.05)
        with self.assertRaisesRegex(RegionError, "at least three"):
            meshes.remove_vertices(made, ident, set(range(count - 2)))
        with self.assertRaisesRegex(RegionError, "lies there already"):
            meshes.add_vertex(made, ident, solution(made).vertices[5], REFERENCE)
        k = middle(made)
        gone = pegs.forget_data(made, ident, {k}, frame, before=False)
        self.assertTrue(np.isnan(solution(gone).places[-1, k]).all())
        np.testing.assert_allclose(places(gone, LAST)[k], places(made, LAST)[k], atol=0.6)  # it follows the others
        np.testing.assert_array_equal(solution(gone).places[:3], solution(made).places[:3])

    def test_followers_go_with_the_others_and_not_by_their_own_measurement(self) -> None:
        made = shot()
        ident, k = made.tracks[0].id, middle(shot())
        found = solution(made)
        wrong = found.places.copy()
        wrong[1:, k] += [9, -7]  # as if something else had been measured there
        made = made.with_track(made.tracks[0].but(solution=found.but(places=wrong)))
        truth = waved(found.vertices, LAST)[k]
        self.assertGreater(np.linalg.norm(places(made, LAST)[k] - truth), 8)
        following = pegs.set_followers(made, ident, {k})
        self.assertLess(np.linalg.norm(places(following, LAST)[k] - truth), 0.6)
        again = pegs.set_followers(following, ident, {k}, follow=False)
        np.testing.assert_allclose(places(again, LAST), places(made, LAST), atol=1e-9)
        with self.assertRaisesRegex(RegionError, "At least three"):
            pegs.set_followers(made, ident, set(range(len(found.vertices) - 2)))
        with self.assertRaisesRegex(RegionError, "no vertex 9999"):
            pegs.set_locked(made, ident, {9999})

    def test_what_is_locked_is_moved_by_nothing(self) -> None:
        made = shot()
        ident, k = made.tracks[0].id, middle(shot())
        frame, before = REFERENCE + 4, places(shot(), REFERENCE + 4)
        far = np.linalg.norm(before - before[k], axis=1)
        near = int(np.argsort(far)[1])
        pegged = pegs.set_pegs(pegs.set_locked(made, ident, {near}), ident, frame, {k: before[k] + [6, -4]})
        np.testing.assert_allclose(places(pegged, frame)[near], before[near], atol=1e-9)
        self.assertGreater(np.linalg.norm(places(pegs.set_locked(pegged, ident, {near}, locked=False), frame)[near] - before[near]), 1)
        again = [e.item for e in retrack(pegged, ident, plate())][-1]
        assert isinstance(again, Shot)
        np.testing.assert_allclose(places(again, frame - 1)[near], places(pegged, frame - 1)[near], atol=1e-9)
        anew = tracked(pegged, ident, plate(), runs_from(pegged, pegged.tracks[0], REFERENCE, "both"))
        np.testing.assert_array_equal(solution(anew).places[:, near], solution(pegged).places[:, near])

    def test_laying_the_mesh_anew_keeps_the_vertices_that_hands_have_said_something_of(self) -> None:
        made = shot()
        ident, frame, at = made.tracks[0].id, REFERENCE + 3, places(shot(), REFERENCE + 3)
        made = pegs.set_locked(pegs.set_pegs(made, ident, frame, {7: at[7] + [2, 1]}), ident, {30})
        old = solution(made).vertices[[7, 30]]
        made = edits.set_settings(made, ident, meshes.mesh_settings(made.tracks[0]).but(vertices=None, spacing=35.0))
        made = tracked(made, ident, plate(), runs_from(made, made.tracks[0], REFERENCE, "both"))
        layer, vertices = made.tracks[0].layer(PegLayer), solution(made).vertices
        (number, place), = layer.pegs[frame].items()
        np.testing.assert_allclose(vertices[number], old[0], atol=1e-9)
        np.testing.assert_allclose(place, at[7] + [2, 1], atol=1e-9)
        np.testing.assert_allclose(vertices[layer.locked[0]], old[1], atol=1e-9)
        self.assertNotEqual(len(vertices), len(solution(shot()).vertices))

    def test_a_shot_with_a_mesh_is_saved_and_opens_the_same(self) -> None:
        made = pegs.set_pegs(shot(), shot().tracks[0].id, REFERENCE + 3, {7: (200.5, 150.25)})
        with tempfile.TemporaryDirectory() as folder:
            store.save(made, Path(folder) / "sail.wertis")
            again = store.load(Path(folder) / "sail.wertis")
        self.assertEqual(again.tracks, made.tracks)
        np.testing.assert_array_equal(places(again, LAST), places(made, LAST))


class MeshExchangeTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.mesh, self.finer = (exported(shot(), shot().tracks[0], within) for within in (0.0, 0.1))

    def test_json_and_usd_come_back_as_they_went(self) -> None:
        for name, read in (("m.json", animated_mesh.read_json), ("m.usd", animated_mesh.read_usd), ("m.usda", animated_mesh.read_usd)):
            self.assertEqual(export_mesh(shot(), shot().tracks[0], self.folder / name), LAST - REFERENCE + 1)
            back = read(self.folder / name)
            self.assertEqual((back.size, back.reference, sorted(back.places)), (self.mesh.size, REFERENCE, list(range(REFERENCE, LAST + 1))))
            meant = self.mesh if name == "m.json" else self.finer
            np.testing.assert_array_equal(back.triangles, meant.triangles)
            for frame, at in meant.places.items():
                np.testing.assert_allclose(back.places[frame], at, atol=1e-3)

    def test_flat_triangles_follow_the_smooth_surface(self) -> None:
        self.assertGreater(len(self.finer.triangles), len(self.mesh.triangles))
        motion = motion_of(shot().tracks[0])
        assert motion is not None
        rng, frame = np.random.default_rng(3), REFERENCE + 4
        off = []
        for mesh in (self.mesh, self.finer):
            corners = mesh.triangles[rng.integers(0, len(mesh.triangles), 500)]
            weights = rng.dirichlet((1, 1, 1), 500)[..., None]
            flat, home = ((of[corners] * weights).sum(1) for of in (mesh.places[frame], mesh.vertices))
            off.append(np.linalg.norm(motion.at(frame).forward(home) - flat, axis=1))  # type: ignore[union-attr]
        self.assertLess(np.percentile(off[1], 99), 0.15)
        self.assertLess(off[1].mean(), off[0].mean() / 2)
        np.testing.assert_array_equal(self.finer.vertices[:len(self.mesh.vertices)], self.mesh.vertices)

    def test_usd_is_what_the_usd_library_takes_for_a_mesh(self) -> None:
        export_mesh(shot(), shot().tracks[0], self.folder / "m.usdc")
        stage = Usd.Stage.Open(str(self.folder / "m.usdc"))
        made = UsdGeom.Mesh(stage.GetDefaultPrim())
        self.assertTrue(UsdGeom.Mesh.ValidateTopology(made.GetFaceVertexIndicesAttr().Get(), made.GetFaceVertexCountsAttr().Get(),
                                                      len(made.GetPointsAttr().Get(REFERENCE)))[0])
        self.assertEqual(made.GetPointsAttr().GetTimeSamples(), [float(f) for f in range(REFERENCE, LAST + 1)])
        self.assertEqual(UsdGeom.GetStageUpAxis(stage), "Y")

    def test_obj_is_read_by_another_library(self) -> None:
        export_mesh(shot(), shot().tracks[0], self.folder / "m.####.obj")
        files = sorted(self.folder.glob("*.obj"))
        self.assertEqual(len(files), LAST - REFERENCE + 1)
        theirs = trimesh.load(files[3], process=False, maintain_order=True)
        self.assertEqual(len(theirs.faces), len(self.finer.triangles))
        self.assertTrue((theirs.face_normals[:, 2] > 0).mean() > 0.95)  # they face the viewer
        vertices, texture, _ = animated_mesh.read_obj(files[3])
        np.testing.assert_allclose(np.c_[vertices[:, 0], SIZE[1] - vertices[:, 1]], self.finer.places[REFERENCE + 3], atol=1e-4)
        np.testing.assert_allclose(texture * SIZE, np.c_[self.finer.vertices[:, 0], SIZE[1] - self.finer.vertices[:, 1]], atol=1e-2)

    def test_csv_has_a_row_for_every_vertex_and_frame(self) -> None:
        export_mesh(shot(), shot().tracks[0], self.folder / "m.csv")
        rows = list(csv.DictReader(x for x in (self.folder / "m.csv").read_text().splitlines() if not x.startswith("#")))
        self.assertEqual(len(rows), (LAST - REFERENCE + 1) * len(self.mesh.vertices))
        last = rows[-1]
        np.testing.assert_allclose([float(last["x"]), float(last["y"])], self.mesh.places[LAST][-1], atol=1e-4)
        self.assertLess(float(last["error"]), 3)

    def test_damaged_and_foreign_files_are_refused_with_what_to_do(self) -> None:
        bad = self.folder / "bad.json"
        for text, words in (("{}", "not an animated mesh"), ('{"format": "wertis animated mesh", "version": 9}', "version 9"),
                            ('{"format": "wertis animated mesh", "version": 1, "vertices": 3}', "damaged"), ("[", "damaged")):
            bad.write_text(text)
            with self.assertRaisesRegex(DeliverError, words):
                animated_mesh.read_json(bad)
        bad.with_suffix(".usd").write_bytes(b"nothing")
        with self.assertRaisesRegex(DeliverError, "cannot be read"):
            animated_mesh.read_usd(bad.with_suffix(".usd"))
        with self.assertRaisesRegex(DeliverError, "not a mesh file"):
            export_mesh(shot(), shot().tracks[0], self.folder / "m.xyz")
        with self.assertRaisesRegex(DeliverError, "no tracked mesh"):
            export_mesh(untracked(), untracked().tracks[0], self.folder / "m.json")


class MeshCommandTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        for k, picture in enumerate(filmed()):
            cv2.imwrite(str(self.folder / f"f.{REFERENCE + k:04d}.png"), picture[..., ::-1])
        self.points = np.array([[180.25, 120.5], [300.0, 200.75], [240.5, 160.0]])
        (self.folder / "in.csv").write_text("id,x,y\n" + "".join(f"p{k},{x},{y}\n" for k, (x, y) in enumerate(self.points)))
        self.call = ["track", str(self.folder), "--start", str(REFERENCE), "--region", " ".join(f"{x},{y}" for x, y in QUAD), "--model", "mesh", "--quiet"]

    def rows(self, name: str) -> dict[tuple[int, str], np.ndarray]:
        table = csv.DictReader((self.folder / name).read_text().splitlines())
        return {(int(r["frame"]), r["id"]): np.array([float(r["x"]), float(r["y"])]) for r in table}

    def test_points_are_followed_and_pegs_are_passed(self) -> None:
        out, pegs = str(self.folder / "out.csv"), self.folder / "pegs.csv"
        self.assertEqual(main([*self.call, "--points", str(self.folder / "in.csv"), "--out", out]), 0)
        found = self.rows("out.csv")
        self.assertEqual(len(found), 3 * (LAST - REFERENCE + 1))
        for (frame, ident), at in found.items():
            self.assertLess(np.linalg.norm(at - waved(self.points[int(ident[1])], frame)), 0.3)
        pegs.write_text(f"frame,id,x,y\n{REFERENCE + 4},p1,310.5,203.25\n")
        self.assertEqual(main([*self.call, "--points", str(self.folder / "in.csv"), "--pegs", str(pegs), "--out", out,
                               "--save", str(self.folder / "sail.wertis")]), 0)
        np.testing.assert_allclose(self.rows("out.csv")[REFERENCE + 4, "p1"], [310.5, 203.25], atol=1e-3)
        self.assertEqual(main(["export", str(self.folder / "sail.wertis"), "--track", "Surface", "--what", "mesh", "--out",
                               str(self.folder / "sail.json")]), 0)
        self.assertEqual(len(animated_mesh.read_json(self.folder / "sail.json").places), LAST - REFERENCE + 1)

    def test_what_is_wrong_is_said(self) -> None:
        given = self.folder / "given.csv"
        out = ["--out", str(self.folder / "out.csv")]
        for extra, text in ((["--points", str(given)], "nonsense\n1\n"), (["--points", str(given)], "id,x,y\na,1,b\n"),
                            (["--points", str(given)], "id,x,y\na,900,900\n"), (["--pegs", str(given)], "frame,id,x,y\n1,a,1,1\n"),
                            (["--points", str(self.folder / "in.csv"), "--pegs", str(given)], "frame,id,x,y\n1003,zz,1,1\n"),
                            (["--stiffness", "300"], ""), (["--spacing", "1"], ""), (["--points", str(self.folder / "none.csv")], "")):
            given.write_text(text)
            with self.subTest(extra=extra, text=text), patch("sys.stderr") as stderr:
                self.assertNotEqual(main([*self.call, *extra, *out]), 0)
                said = "".join(str(c.args[0]) for c in stderr.write.call_args_list)
                self.assertTrue(said.startswith("wertis: "))
                self.assertNotIn("Traceback", said)
                self.assertFalse((self.folder / "out.csv").exists())

    def test_the_mesh_that_is_laid_is_the_one_that_is_tracked(self) -> None:
        made = untracked(MeshSettings(spacing=40, outline=False))
        mesh = laid_mesh(made, made.tracks[0], plate())
        done = tracked(made, made.tracks[0].id, plate(), [range(REFERENCE + 1, REFERENCE + 2)])
        np.testing.assert_array_equal(solution(done).vertices, mesh.vertices)
        self.assertEqual(MeshFix(mesh, None).warp, None)
