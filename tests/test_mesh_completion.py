"""A mesh's frames of which much is hidden, completed by all other frames."""

import copy
import unittest
from dataclasses import replace
from functools import cache
from unittest.mock import patch

import numpy as np

from tests.scenes import SIZE, FramesPlate, texture
from tests.test_mesh_batch import FADED, MASK, MESH, away, filmed, rms, swaying
from wertis.core.blas import single_threaded
from wertis.core.errors import PlateError
from wertis.core.geometry.bspline import Lattice
from wertis.core.geometry.mesh import MeshFix
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.phases import listening
from wertis.core.track.mesh import occluded_frames, settings, shape_completion
from wertis.core.track.mesh.batch import BatchRefinement
from wertis.core.track.mesh.frame_pictures import ReadAgain
from wertis.core.track.mesh.run import track_mesh
from wertis.core.track.mesh.shape_completion import completed

LATTICE = Lattice.over(np.array([[0.0, 0], [300, 240]]), 30)
TIMES = np.arange(40)
X, Y = LATTICE.identity[..., 0], LATTICE.identity[..., 1]


def shaken(times: np.ndarray, wave: float = 6.0) -> np.ndarray:
    """(T, rows, columns, 2) control values of a sheet that turns and bends in two ways."""
    out = []
    for t in times:
        turn, high, wide = 0.05 * np.sin(0.2 * t), wave * np.sin(0.35 * t), wave * np.cos(0.27 * t) - wave
        out.append(np.stack([X - turn * Y + 0.8 * t + high * np.sin(Y / 50), Y + turn * X + wide * np.cos(X / 70)], axis=-1))
    return np.array(out)


class ShapeCompletionTest(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(6)
        self.true = shaken(TIMES)
        self.values = self.true + rng.normal(0, 0.03, self.true.shape)
        self.deviations = np.full(self.true.shape[:3], 0.05)
        self.hidden = np.zeros(self.true.shape[:3], bool)
        for frame in range(14, 26):  # a passer hides more than half of the columns
            self.hidden[frame, :, max(frame - 16, 0):frame - 6] = True
        self.reliable = ~self.hidden.any((1, 2))

    def off(self, found: np.ndarray) -> np.ndarray:
        return np.asarray(np.linalg.norm(found - self.true, axis=-1))

    def test_hidden_parts_lie_where_the_seen_ones_and_the_other_frames_say(self) -> None:
        self.values[self.hidden] += 25
        self.deviations[self.hidden] = 40
        found = completed(LATTICE, TIMES.tolist(), self.values, self.deviations, self.reliable)
        self.assertLess(rms(self.off(found)[self.hidden]), 0.15)
        self.assertLess(rms(self.off(found)[~self.hidden]), 0.06)

    def test_what_is_measured_stays(self) -> None:
        found = completed(LATTICE, TIMES.tolist(), self.values, self.deviations, self.reliable)
        self.assertLess(np.abs(found - self.values).max(), 0.15)
        self.assertLess(rms(self.off(found)), 1.02 * rms(self.off(self.values)))

    def test_a_few_wrong_places_that_are_stated_as_sure_are_not_followed(self) -> None:
        wrong = np.zeros_like(self.hidden)
        wrong[18:22, 3, 9] = True
        self.values[wrong] += 12
        found = completed(LATTICE, TIMES.tolist(), self.values, self.deviations, self.reliable)
        self.assertLess(self.off(found)[wrong].max(), 1.5)

    def test_frames_may_be_missing(self) -> None:
        self.values[self.hidden] += 25
        self.deviations[self.hidden] = 40
        some = np.setdiff1d(TIMES, [5, 17, 18, 30])
        found = completed(LATTICE, some.tolist(), self.values[some], self.deviations[some], self.reliable[some])
        self.assertLess(rms(np.linalg.norm(found - self.true[some], axis=-1)[self.hidden[some]]), 0.5)

    def test_second_derivatives_of_a_parabola_are_exact_at_uneven_times(self) -> None:
        times = np.array([1.0, 2, 5, 6, 7, 11])
        np.testing.assert_allclose(shape_completion._second_differences(times) @ (3 * times ** 2 - times + 4), 6, rtol=1e-12)

    def test_coefficients_are_those_of_the_dense_least_squares_problem(self) -> None:
        rng = np.random.default_rng(3)
        frames, size, points = 9, 4, 12
        basis, moved = np.linalg.qr(rng.normal(size=(2 * points, size)))[0], rng.normal(size=(frames, 2 * points))
        variance, acceleration = rng.uniform(0.1, 2, moved.shape), rng.uniform(0.2, 1, size)
        roughness = shape_completion._second_differences(np.arange(frames, dtype=float))
        with patch.object(shape_completion, "COMPLETION", replace(settings.COMPLETION, reweighted=1)):
            expected, _ = shape_completion._smoothed(basis, moved, variance, roughness, acceleration)
        sure = 1 / np.sqrt(variance + settings.COMPLETION.beside_basis ** 2)
        seen = np.vstack([np.kron(np.eye(frames)[t], basis * sure[t][:, None]) for t in range(frames)])
        rows = np.vstack([seen, np.kron(roughness.toarray(), np.diag(1 / acceleration))])
        dense = np.linalg.lstsq(rows, np.concatenate([(sure * moved).ravel(), np.zeros(len(rows) - len(seen))]), rcond=None)[0]
        np.testing.assert_allclose(expected, dense.reshape(frames, size) @ basis.T, atol=1e-6)


PASSED = range(7, 17)  # frames with the passer
WIDE = 170


@cache
def passed() -> FramesPlate:
    """The wall with a nearly bare part, and a passer as wide as the half of it that goes from left to right over it."""
    cloth = texture("chelsea", (WIDE, SIZE[1]))
    frames = [p.copy() for p in filmed().pictures]
    for k in PASSED:
        left = _left(k)
        shown = slice(max(left, 0), min(left + WIDE, SIZE[0]))
        frames[k][:, shown] = cloth[:, shown.start - left:shown.stop - left]
    return FramesPlate(frames)


def _left(frame: int) -> int:
    return int(np.interp(frame, [PASSED[0], PASSED[-1]], [-20, 330]))


def seen() -> np.ndarray:
    """(frames, V) whether each vertex is, from frame 1 on."""
    x = np.array([swaying(MESH.vertices, k)[:, 0] for k in range(1, len(filmed().pictures))])
    left = np.array([_left(k) if k in PASSED else 10_000 for k in range(1, len(x) + 1)])[:, None]
    return (x < left - 2) | (x > left + WIDE + 2)


BARE = np.linalg.norm(MESH.vertices - FADED, axis=1) < 60


@cache
def tracked() -> tuple[BatchRefinement, dict[int, MeshFix]]:
    together = BatchRefinement()
    with single_threaded():
        return together, dict(track_mesh(passed(), MESH, MASK, 0, range(1, len(passed().pictures)), batch=together))


def answered(read: ReadAgain | None = None, pictures: bool = True) -> dict[int, MeshFix]:
    """All answers, from a copy of what was tracked once."""
    first, each = tracked()
    together = copy.copy(first)
    together._pictures = copy.copy(first._pictures) if pictures else None
    if read is not None:
        assert together._pictures is not None
        together._pictures._read = read
    with single_threaded():
        return each | dict(together.answers())


@cache
def complete() -> dict[int, MeshFix]:
    return answered()


@cache
def incomplete() -> dict[int, MeshFix]:
    with patch.object(occluded_frames, "COMPLETION", replace(settings.COMPLETION, little_measured=0.0)):
        return answered()


class OccludedFramesTest(unittest.TestCase):
    def test_bare_parts_beside_a_passer_are_nearer_to_the_truth(self) -> None:
        before, after, visible = away(incomplete()), away(complete()), seen()
        frames = np.zeros(len(visible), bool)
        frames[[k - 1 for k in PASSED]] = True
        bare = visible & frames[:, None] & BARE
        self.assertLess(rms(after[bare]), 0.8 * rms(before[bare]))
        self.assertLessEqual(rms(after[visible & ~bare]), rms(before[visible & ~bare]))
        self.assertLess(rms(after[~visible]), 0.5 * rms(before[~visible]))

    def test_what_is_stated_is_true_on_nine_of_ten(self) -> None:
        stated, measured = (np.array([getattr(fix, name) for _, fix in sorted(complete().items())]) for name in ("errors", "measured"))
        true = away(complete()) <= 2 * stated
        self.assertGreater(np.mean(true[seen()]), 0.9)
        self.assertGreater(np.mean(true[measured]), 0.9)
        before = np.array([fix.measured for _, fix in sorted(incomplete().items())])
        self.assertGreaterEqual(measured.sum(), before.sum())

    def test_where_pictures_cannot_be_had_again_the_answers_without_them_stand(self) -> None:
        def broken(frame: int, luma: np.ndarray | None) -> Pyramid:
            raise PlateError("the file is gone")

        without = answered(pictures=False)
        for read in (broken, lambda frame, luma: None):
            found = answered(read)
            for frame, fix in without.items():
                np.testing.assert_array_equal(fix.places, found[frame].places)

    def test_where_nothing_can_be_completed_the_answers_of_the_other_frames_stand(self) -> None:
        with patch.object(occluded_frames, "completed", side_effect=np.linalg.LinAlgError), self.assertLogs("wertis", "WARNING"):
            found = answered()
        for frame, fix in incomplete().items():
            np.testing.assert_array_equal(fix.places, found[frame].places)

    def test_it_says_what_it_does(self) -> None:
        told: list[tuple[str, int, int]] = []
        with listening(lambda *what: told.append(what)):
            answered()
        counts = [(done, total) for what, done, total in told if what == "completing hidden parts"]
        self.assertEqual([done for done, _ in counts], list(range(counts[0][1])))


if __name__ == "__main__":
    unittest.main()
