"""What every motion must keep to, shown for planes, for each layer, and for a motion that bends."""

import unittest

import numpy as np

from tests.helpers import moved
from tests.scenes import SIZE
from tests.waves import QUAD, WaveMotion, WaveSolution
from wertis.core.geometry import homography
from wertis.core.geometry.motion import Fix, Motion, PlanarMotion, between
from wertis.core.geometry.warp import BentSquareWarp, HomographyWarp, Warp, compose, inverted, local_scale
from wertis.core.repair.extra import ExtraValues
from wertis.core.shot import edits, extra_moves, repairs
from wertis.core.shot.document import PlateRef, Shot, SmoothingLayer

GRID = np.stack(np.meshgrid(np.linspace(130, 350, 5), np.linspace(90, 240, 4)), -1).reshape(-1, 2)


class Conformance:
    """The tests that every motion must pass; a case gives `motion()`, with frames 1001 to 1008 known."""

    def motion(self) -> Motion:
        raise NotImplementedError

    def warp(self, time: float) -> Warp:
        found = self.motion().at(time)
        assert found is not None
        return found

    times = (1001, 1002, 1004.25, 1005.5, 1008, 1008.4, 1000.6)

    def test_there_and_back(self) -> None:
        for time in self.times:
            warp = self.warp(time)
            np.testing.assert_allclose(warp.inverse(warp.forward(GRID)), GRID, atol=1e-5, err_msg=str(time))
            shaped = GRID.reshape(4, 5, 2)
            np.testing.assert_allclose(warp.forward(shaped), warp.forward(GRID).reshape(4, 5, 2), atol=1e-9)

    def test_the_reference_frame_stands_still(self) -> None:
        np.testing.assert_allclose(self.warp(self.motion().reference).forward(GRID), GRID, atol=1e-9)

    def test_the_jacobian_is_what_differences_give(self) -> None:
        for time in self.times:
            warp, h = self.warp(time), 1e-3
            for column, step in enumerate(h * np.eye(2)):
                slope = (warp.forward(GRID + step) - warp.forward(GRID - step)) / (2 * h)
                np.testing.assert_allclose(warp.jacobian(GRID)[:, :, column], slope, atol=1e-4)

    def test_the_inverse_map_is_what_the_points_give(self) -> None:
        for time in self.times:
            warp = self.warp(time)
            for samples in (1, 3):
                x0, y0, x1, y1 = 150, 110, 213, 151
                mapped = warp.inverse_map((x0, y0, x1, y1), samples)
                self.assertEqual(mapped.shape, ((y1 - y0) * samples, (x1 - x0) * samples, 2))  # type: ignore[attr-defined]
                for row, column in ((0, 0), (17, 40), (40, 62)):
                    place = np.array([x0 + (column * samples + 0.5) / samples, y0 + (row * samples + 0.5) / samples])
                    np.testing.assert_allclose(mapped[row * samples, column * samples], warp.inverse(place[None])[0], atol=0.02)

    def test_warps_compose(self) -> None:
        a, b = self.warp(1003), self.warp(1006)
        there = between(self.motion(), 1003, 1006)
        assert there is not None
        np.testing.assert_allclose(there.forward(a.forward(GRID)), b.forward(GRID), atol=1e-4)
        square = HomographyWarp(homography.from_unit_square(QUAD))
        bent = compose(square, BentSquareWarp(np.full((8, 2), 0.02)))
        inside = np.array([[0.2, 0.3], [0.8, 0.6]])
        np.testing.assert_allclose(compose(b, bent).forward(inside), b.forward(bent.forward(inside)), atol=1e-9)
        np.testing.assert_allclose(inverted(compose(b, bent)).forward(compose(b, bent).forward(inside)), inside, atol=1e-5)

    def test_times_between_frames_lie_between_them_and_go_on_half_a_frame(self) -> None:
        near, here, after = (self.warp(t).forward(GRID) for t in (1004, 1004.5, 1005))
        step = np.linalg.norm(after - near, axis=1).max()
        self.assertLess(np.linalg.norm(here - (near + after) / 2, axis=1).max(), 0.3 * step + 1e-6)  # type: ignore[attr-defined]
        for edge, beyond in ((1008, 1008.5), (1001, 1000.5)):
            self.assertLess(np.linalg.norm(self.warp(beyond).forward(GRID) - self.warp(edge).forward(GRID), axis=1).max(), 8)  # type: ignore[attr-defined]

    def test_outside_it_is_unknown(self) -> None:
        for time in (1000.3, 900, 1008.7, 5000):
            self.assertIsNone(self.motion().at(time), time)  # type: ignore[attr-defined]
            self.assertTrue(np.isinf(self.motion().uncertainty(GRID, time)).all())  # type: ignore[attr-defined]

    def test_it_says_how_sure_it_is(self) -> None:
        sure = self.motion().uncertainty(GRID, 1004)
        self.assertEqual(sure.shape, (len(GRID),))  # type: ignore[attr-defined]
        self.assertTrue((sure > 0).all() and np.isfinite(sure).all())  # type: ignore[attr-defined]

    def test_frames_are_in_order_and_known(self) -> None:
        frames = list(self.motion().frames)
        self.assertEqual(frames, sorted(frames))  # type: ignore[attr-defined]
        for frame in frames:
            self.assertIsNotNone(self.motion().at(frame))  # type: ignore[attr-defined]


def plane_fixes() -> dict[int, Fix]:
    rng = np.random.default_rng(2)
    drift = rng.normal(0, 2, (4, 2))
    return {f: Fix(homography.from_points(QUAD, QUAD + drift * (f - 1001) + rng.normal(0, 0.3, (4, 2))), 0.05, 1.0) for f in range(1002, 1009)}


def shot(wave: bool = False) -> Shot:
    """A shot of a plane or of a wave, without layers."""
    made = Shot(plate=PlateRef(path="x", first=1001, last=1008, size=SIZE), range=(1001, 1008))
    made, track = edits.add_track(made, QUAD, 1001, "Wall")
    if wave:
        return made.with_track(track.but(solution=WaveSolution()))
    return edits.set_tracked(made, track.id, plane_fixes())


def repaired(made: Shot) -> Shot:
    """Two repair points, one after the other, each with a key."""
    ident = made.tracks[0].id
    for frame, place, by in ((1005, (150, 110), (3, -2)), (1006, (330, 220), (-2, 2))):
        made = repairs.add_point(made, ident, np.array(place, float), 1001)
        at = repairs.points_on(made.tracks[0], frame)
        assert at is not None
        point = repairs_points(made)[-1]
        made = repairs.move_points(made, ident, frame, {point: at[-1] + by})
    return made


def repairs_points(made: Shot) -> list[str]:
    from tests.helpers import repair_points

    return [p.id for p in repair_points(made)]


def extra(made: Shot) -> Shot:
    return extra_moves.set_values(made, made.tracks[0].id, 1006, ExtraValues(4, -3, 1.05, 3, 0.02))


def smoothed(made: Shot) -> Shot:
    return made.with_track(made.tracks[0].with_layer(SmoothingLayer(width=3.0)))


class PlaneTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return PlanarMotion(1001, {f: x.matrix for f, x in plane_fixes().items() if x.matrix is not None}, QUAD, dict.fromkeys(range(1002, 1009), 0.05))

    def test_a_lost_frame_lends_half_a_frame_to_its_neighbours(self) -> None:
        motion = PlanarMotion(1001, {f: x.matrix for f, x in plane_fixes().items() if x.matrix is not None and f != 1005}, QUAD)
        self.assertIsNone(motion.at(1005))
        self.assertIsNotNone(motion.at(1004.5))
        self.assertIsNone(motion.at(1004.6))
        self.assertIsNotNone(motion.at(1005.5))


class WaveTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return WaveMotion()


class SmoothedPlaneTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return moved(smoothed(shot()).tracks[0])


class RepairedPlaneTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return moved(repaired(shot()).tracks[0])


class MovedPlaneTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return moved(extra(shot()).tracks[0])


class SmoothedWaveTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return moved(smoothed(shot(True)).tracks[0])


class RepairedWaveTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return moved(repaired(shot(True)).tracks[0])


class AllLayersOnAWaveTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        return moved(extra(repaired(smoothed(shot(True)))).tracks[0])


class ScaleTest(unittest.TestCase):
    def test_local_scale_is_the_root_of_the_area(self) -> None:
        # a linear map's area scale is its determinant (a handbook's formula)
        self.assertAlmostEqual(local_scale(HomographyWarp(np.diag([4.0, 1, 1])), np.array([3.0, 7])), 2.0)


if __name__ == "__main__":
    unittest.main()
