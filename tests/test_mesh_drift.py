"""Drift of meshes at their vertices, pegs that find their places or set themselves, and what single vertices can do."""

import unittest
from functools import cache

import cv2
import numpy as np
import scipy.ndimage

from tests.test_mesh import MASK, middle, places, plate, shot, solution, untracked
from tests.waves import LAST, QUAD, REFERENCE, filmed, waved
from wertis.cli.check import as_csv
from wertis.core.check.slip import Slip
from wertis.core.check.summary import named_place
from wertis.core.check.vertex_drift import VertexDriftSeries
from wertis.core.errors import RegionError, WertisError
from wertis.core.geometry.mesh import Mesh, MeshWarp
from wertis.core.imaging.patch_alignment import PatchAlignment, View, grid_on
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.jobs.check import check_track, drift_places
from wertis.core.jobs.find import find_vertices
from wertis.core.jobs.mesh_tracking import stale_vertices, track_vertices
from wertis.core.jobs.repair import Outcome, repair_by_itself
from wertis.core.shot import pegs
from wertis.core.shot.document import Shot
from wertis.core.shot.meshes import MeshSolution, PegLayer


def spoilt(vertices: np.ndarray, middle_: np.ndarray, amount: np.ndarray) -> np.ndarray:
    """(V, 2) a bump by which a motion is made to drift round a place."""
    return amount * np.exp(-((vertices - middle_) ** 2).sum(1) / (2 * 70.0 ** 2))[:, None]


def grey(frame: int) -> np.ndarray:
    """(h, w) uint8 a frame of the wave."""
    return cv2.cvtColor(filmed()[frame - REFERENCE], cv2.COLOR_BGR2GRAY)


@cache
def drifting() -> Shot:
    """The wave tracked as a mesh, then spoilt by up to 5 pixels round its middle over some frames."""
    made = shot()
    found = solution(made)
    moved = found.places.copy()
    for k, frame in enumerate(found.frames):
        moved[k] += spoilt(found.vertices, QUAD.mean(0), np.array([4.0, -3.0])) * max(0.0, 1 - abs(frame - REFERENCE - 4) / 2)
    return made.with_track(made.tracks[0].but(solution=found.but(places=moved)))


class VertexDriftTest(unittest.TestCase):
    """Against the motion by which the film was made."""

    def measured(self, kind: str, frame: int) -> tuple[Slip, np.ndarray]:
        mesh = Mesh(solution(shot()).vertices)
        truth = waved(mesh.vertices, frame)
        off = spoilt(mesh.vertices, QUAD.mean(0) + [30, 10], np.array([-2.5, 3.5])) if kind == "spoilt" else np.zeros_like(truth)
        luma, now = grey(REFERENCE), grey(frame)
        series = VertexDriftSeries(luma, MASK, mesh.vertices, mesh.spacing)
        return series.look(now, MeshWarp(mesh, truth + off), None, (0, 0), now.shape[::-1]), off

    def test_a_true_motion_does_not_drift_and_a_spoilt_one_by_what_it_was_spoilt(self) -> None:
        for kind in ("true", "spoilt"):
            slip, off = self.measured(kind, REFERENCE + 4)
            away = np.linalg.norm(slip.slip + off, axis=1)
            known = np.isfinite(away)
            self.assertGreater(known.mean(), 0.85)
            self.assertGreater((away[known] < 0.2).mean(), 0.95)
            self.assertGreater((away[known] < 2 * slip.uncertainty[known]).mean(), 0.9)

    def test_what_is_covered_is_not_measured(self) -> None:
        mesh = Mesh(solution(shot()).vertices)
        frame = REFERENCE + 4
        truth = waved(mesh.vertices, frame)
        now = grey(frame).copy()
        x, y = truth.mean(0).astype(int)
        now[y - 60:y + 60, x - 60:x + 60] = np.random.default_rng(2).integers(0, 255, now[y - 60:y + 60, x - 60:x + 60].shape)
        series = VertexDriftSeries(grey(REFERENCE), MASK, mesh.vertices, mesh.spacing)
        slip = series.look(now, MeshWarp(mesh, truth), None, (0, 0), now.shape[::-1])
        under = (np.abs(truth - [x, y]) < 30).all(1)
        self.assertGreater(under.sum(), 2)
        self.assertTrue(np.isnan(slip.slip[under]).all())
        self.assertGreater(np.isfinite(slip.slip[~(np.abs(truth - [x, y]) < 80).all(1)]).mean(), 0.7)

    def test_patches_are_found_where_scipy_has_put_them(self) -> None:
        """A picture shifted by scipy.ndimage's spline interpolation: each patch is found to be off by the shift."""
        rng = np.random.default_rng(8)
        picture = cv2.GaussianBlur(rng.uniform(0, 255, (260, 320)).astype(np.float32), (0, 0), 2)
        picture = (picture - picture.mean()) * 8 + 128
        dx, dy = 7.3, -4.6
        other = scipy.ndimage.shift(picture, (dy, dx), order=3, mode="nearest").astype(np.float32)
        mask = np.zeros(picture.shape, np.uint8)
        mask[50:-50, 50:-50] = 1
        alignment = PatchAlignment(Pyramid(picture), mask, 21, grid_on(mask, 21), 42)
        found = alignment.align(View(Pyramid(other), None, lambda p: p, lambda p: np.tile(np.eye(2), (len(p), 1, 1)), (0, 0), (320, 260)))
        self.assertEqual(len(found.patches), len(alignment.centres))
        np.testing.assert_allclose(found.moves, np.tile([dx, dy], (len(found.moves), 1)), atol=0.03)

    def test_the_drift_of_a_mesh_is_stated_at_its_vertices(self) -> None:
        made = drifting()
        stated = drift_places(made, made.tracks[0])
        self.assertEqual((stated.each, len(stated.points)), ("vertex", len(solution(made).vertices)))
        frame = REFERENCE + 4
        slip = next(e.item for e in check_track(made, made.tracks[0], plate(), [frame]))
        self.assertLess(abs(slip.worst - 5), 0.3)
        self.assertLess(np.linalg.norm(solution(made).vertices[slip.where] - QUAD.mean(0)), 40)
        self.assertLess(slip.mean, slip.worst)
        self.assertEqual(named_place("vertex", 7), "vertex 7")
        self.assertEqual(named_place("corner", 0), "corner 1")
        rows = as_csv({frame: slip}, "vertex").splitlines()
        self.assertEqual(rows[0], "frame,id,dx,dy,drift,doubt")
        self.assertEqual(len(rows), 1 + len(stated.points))


class PeggingTest(unittest.TestCase):
    def test_repair_by_itself_pegs_what_drifts(self) -> None:
        made = drifting()
        ident = made.tracks[0].id
        outcome = [e.item for e in repair_by_itself(made, ident, plate(), 0.4)][-1]
        assert isinstance(outcome, Outcome)
        self.assertGreater(outcome.before.worst, 4.5)
        self.assertLess(outcome.after.worst, 0.6)
        set_ = outcome.shot.tracks[0].layer(PegLayer)
        self.assertEqual(sorted(outcome.frames), set_.frames)
        self.assertLess(max(map(len, set_.pegs.values())), 50)
        for frame in range(REFERENCE, LAST + 1):
            away = np.linalg.norm(places(outcome.shot, frame) - waved(solution(made).vertices, frame), axis=1)
            self.assertLess(np.quantile(away, 0.9), 0.7, frame)

    def test_vertices_find_their_places(self) -> None:
        made = drifting()
        frame, k = REFERENCE + 4, middle(made)
        found = find_vertices(made, made.tracks[0], plate(), frame, [k])
        np.testing.assert_allclose(found[k], waved(solution(made).vertices[k:k + 1], frame)[0], atol=0.25)
        with self.assertRaisesRegex(WertisError, "no mesh"):
            find_vertices(untracked(), untracked().tracks[0], plate(), frame)

    def test_vertices_are_tracked_alone(self) -> None:
        made = drifting()
        k, frame = middle(made), REFERENCE + 4
        again = [e.item for e in track_vertices(made, made.tracks[0].id, plate(), [k])][-1]
        assert isinstance(again, Shot)
        others = np.delete(np.arange(len(solution(made).vertices)), k)
        np.testing.assert_array_equal(places(again, frame)[others], places(made, frame)[others])
        truth = waved(solution(made).vertices[k:k + 1], frame)[0]
        self.assertGreater(np.linalg.norm(places(made, frame)[k] - truth), 4)
        self.assertLess(np.linalg.norm(places(again, frame)[k] - truth), 0.3)
        with self.assertRaisesRegex(WertisError, "by their numbers"):
            list(track_vertices(made, made.tracks[0].id, plate(), [99_999]))

    def test_pegs_move_in_time_and_are_copied(self) -> None:
        made = shot()
        ident, k, frame = made.tracks[0].id, middle(made), REFERENCE + 3
        pegged = pegs.set_pegs(made, ident, frame, {k: places(made, frame)[k] + [3, 2]})
        for copy, frames in ((True, [frame, frame + 2]), (False, [frame + 2])):
            moved = pegs.shift_pegs(pegged, ident, frame, frame + 2, copy)
            self.assertEqual(moved.tracks[0].layer(PegLayer).frames, frames)
            np.testing.assert_allclose(places(moved, frame + 2)[k], places(made, frame + 2)[k] + [3, 2], atol=1e-3)
        with self.assertRaisesRegex(RegionError, "no peg on frame"):
            pegs.shift_pegs(made, ident, frame, frame + 1)
        with self.assertRaisesRegex(RegionError, "no answer on frame"):
            pegs.shift_pegs(pegged, ident, frame, 9999)

    def test_pegs_alone_carry_a_mesh(self) -> None:
        made = untracked()
        made = pegs.carry_by_pegs(made, made.tracks[0].id)
        self.assertIsInstance(made.tracks[0].solution, MeshSolution)
        self.assertFalse(solution(made).measured[1:].any())
        vertices, ident = solution(made).vertices, made.tracks[0].id
        one = pegs.set_pegs(made, ident, LAST, {3: vertices[3] + [60, 10]})
        np.testing.assert_allclose(places(one, LAST), vertices + [60, 10], atol=1e-3)  # one shifts it
        half = (REFERENCE + LAST) // 2
        self.assertGreater((places(one, half) - vertices)[:, 0].min(), 5)  # and it is on its way before
        turn = np.array([[0, -1], [1, 0]])
        centre = vertices.mean(0)
        two = pegs.set_pegs(made, ident, LAST, {k: centre + turn @ (vertices[k] - centre) for k in (0, len(vertices) // 2)})
        np.testing.assert_allclose(places(two, LAST), centre + (vertices - centre) @ turn.T, atol=1e-2)  # two turn it

    def test_followers_follow_a_bar_or_a_plane(self) -> None:
        made = shot()
        ident, frame = made.tracks[0].id, REFERENCE + 4
        found = solution(made)
        k = middle(made)
        for leaders, count in (("two", 2), ("plane", 6)):
            following = pegs.set_followers(made, ident, {k}, True, leaders)
            self.assertEqual(len(following.tracks[0].layer(PegLayer).led_by[k]), count)
            self.assertLess(np.linalg.norm(places(following, frame)[k] - places(made, frame)[k]), 4)
        a, b = 5, 9
        led = pegs.set_followers(made, ident, {k}, True, (a, b))
        now = places(made, frame)
        before, after = (p[b] - p[a] for p in (found.vertices, now))
        turned = complex(*after) / complex(*before) * complex(*(found.vertices[k] - found.vertices[a]))  # a similarity, in complex numbers
        np.testing.assert_allclose(places(led, frame)[k], now[a] + [turned.real, turned.imag], atol=1e-6)
        self.assertEqual(pegs.set_followers(led, ident, {k}, False).tracks[0].layer(PegLayer).led_by, {})
        for wrong in ((a,), (a, k), "nothing"):
            with self.assertRaises(RegionError):
                pegs.set_followers(made, ident, {k}, True, wrong)

    def test_only_what_a_peg_touches_is_out_of_date(self) -> None:
        made = shot()
        ident, frame = made.tracks[0].id, REFERENCE + 4
        v = solution(made).vertices
        k = int(np.argmin(v.sum(1)))
        pegged = pegs.set_pegs(made, ident, frame, {k: places(made, frame)[k] + [4, 0]})
        stale = stale_vertices(pegged.tracks[0], frame + 1, pegged.range)
        assert stale is not None
        self.assertTrue(stale[k])
        self.assertFalse(stale[int(np.argmax(v.sum(1)))])
        self.assertIsNone(stale_vertices(pegged.tracks[0], frame, pegged.range))


if __name__ == "__main__":
    unittest.main()
