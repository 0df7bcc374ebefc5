"""A mesh's frames compared with their mean: faint texture that one frame's grain drowns."""

import unittest
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from unittest.mock import patch

import cv2
import numpy as np

from tests.scenes import SIZE
from tests.test_mesh_batch import COUNT, MASK, MESH, NEAR, away, filmed, flapping, followed, rms
from wertis.core.blas import single_threaded
from wertis.core.errors import PlateError
from wertis.core.geometry.bspline import Lattice
from wertis.core.geometry.mesh import MeshFix
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh import batch, frame_pictures, mean_refinement, settings
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.batch import BatchRefinement
from wertis.core.track.mesh.mean_template import MeanOfFrames, noise_dominated, reference_on_mean
from wertis.core.track.mesh.observation import Observation
from wertis.core.track.mesh.reference import MeshReference
from wertis.core.track.mesh.run import track_mesh

FAINT = 0.03  # of the contrast elsewhere


def answered(together: BatchRefinement, once_tracked: Callable[[], object] = lambda: None) -> dict[int, MeshFix]:
    with single_threaded():
        each = dict(track_mesh(filmed(False, FAINT), MESH, MASK, 0, range(1, COUNT), batch=together))
        once_tracked()
        return each | dict(together.answers())


@cache
def by_mean() -> dict[int, MeshFix]:
    return answered(BatchRefinement())


@cache
def by_reference() -> dict[int, MeshFix]:
    with patch.object(batch, "_comparable", lambda tracker: False):
        return answered(BatchRefinement())


class TrackedByMeanTest(unittest.TestCase):
    def test_faint_texture_is_nearer_to_the_truth_by_a_fifth_and_the_rest_stays(self) -> None:
        before, found = away(by_reference()), by_mean()
        after = away(found)
        self.assertLess(rms(after[:, NEAR]), 0.8 * rms(before[:, NEAR]))
        self.assertLess(rms(after[:, ~NEAR]), 1.05 * rms(before[:, ~NEAR]))
        stated = np.array([fix.errors for _, fix in sorted(found.items())])
        self.assertGreater(np.mean(after <= 2 * stated), 0.9)

    def test_a_faint_part_that_moves_by_itself_is_followed(self) -> None:
        each, together = (away(answers, flapping) for answers in followed(True, 0.1))
        self.assertLess(rms(together[:, NEAR]), 0.9 * rms(each[:, NEAR]))

    def test_pictures_that_are_read_again_give_what_kept_ones_give(self) -> None:
        kept = by_mean()
        together = BatchRefinement()
        with patch.object(frame_pictures, "BATCH", replace(settings.BATCH, most_kept=3 * SIZE[0] * SIZE[1])):
            read = answered(together, lambda: self.assertLessEqual(len(together._pictures._lumas), 3))
        for frame, fix in kept.items():
            np.testing.assert_array_equal(fix.places, read[frame].places)

    def test_where_a_frame_cannot_be_read_again_or_tracking_is_stopped_the_first_answers_stand(self) -> None:

        def broken(frame: int, luma: np.ndarray | None) -> Pyramid:
            raise PlateError("the file is gone")

        for read in (broken, lambda frame, luma: None):
            together = BatchRefinement()
            keep = together.keep
            with patch.object(together, "keep", lambda *a, keep=keep, read=read: keep(*a[:4], read)):
                found = answered(together)
            for frame, fix in by_reference().items():
                np.testing.assert_array_equal(fix.places, found[frame].places)

    def test_a_later_block_goes_by_the_mean_of_the_first(self) -> None:
        made: list[MeanOfFrames] = []
        with patch.object(batch, "BATCH", replace(settings.BATCH, least_frames=5, most_frames=12)), \
                patch.object(mean_refinement, "MeanOfFrames", side_effect=lambda a: made.append(MeanOfFrames(a)) or made[-1]), \
                patch.object(mean_refinement, "MEAN_TEMPLATE", replace(settings.MEAN_TEMPLATE, rounds=1)):
            together = BatchRefinement()
            found: dict[int, MeshFix] = {}
            with single_threaded():
                for frame, fix in track_mesh(filmed(False, FAINT), MESH, MASK, 0, range(1, COUNT), batch=together):
                    found[frame] = fix
            found |= dict(together.answers())
        self.assertEqual(len(made), 1)
        self.assertLess(rms(away(found)[:, NEAR]), 0.35)


class MeanTest(unittest.TestCase):
    """Frames of a still, faint picture under grain of deviation 3."""

    def setUp(self) -> None:
        rng = np.random.default_rng(12)
        height, width = 200, 260
        self.clean = 90 + 3 * cv2.GaussianBlur(rng.normal(0, 1, (height, width)).astype(np.float32), (0, 0), 3) * 8
        self.clean[:, :80] += 40 * cv2.GaussianBlur(rng.normal(0, 1, (height, 80)).astype(np.float32), (0, 0), 1.5)  # clear texture
        self.frames = [self.clean + rng.normal(0, 3, self.clean.shape).astype(np.float32) for _ in range(31)]
        mask = np.zeros(self.clean.shape, np.uint8)
        mask[20:180, 20:240] = 255
        self.alignment = MeshAlignment(MeshReference(Pyramid(self.frames[0]), mask), Lattice.over(np.array([[20.0, 20], [240, 180]]), 40), None)
        self.mean = MeanOfFrames(self.alignment)
        self.tiles = self.alignment.reference.tiles(0)

    def _seen(self, weight: np.ndarray, gain: float = 1.0) -> Observation:
        none, values = np.zeros(self.alignment.lattice.shape), self.alignment.lattice.identity
        return Observation(values, values, none, none, {}, weight, np.full(len(weight), gain, np.float32), {4: 1.0}, 1.0, False)

    def _added(self, weight: np.ndarray) -> MeshAlignment:
        for frame in self.frames[1:]:
            self.mean.add(*self.mean.high_pass(Pyramid(frame)[0], self.alignment.lattice.identity, self._seen(weight)))
        found = self.mean.aligned_by_mean()
        assert found is not None
        return found

    def test_only_faint_tiles_are_drowned(self) -> None:
        grain = 9 * 0.14  # what the pyramid's smoothing leaves of it: 1 / (4 pi 0.75^2)
        drowned = noise_dominated(self.tiles, grain)
        clear = self.tiles.centre[:, 0] < 50
        self.assertLess(clear[drowned].mean(), 0.05)
        self.assertGreater(len(drowned), 0.9 * (self.tiles.centre[:, 0] > 120).sum())

    def test_the_means_grain_is_a_thirty_first_of_a_frames(self) -> None:
        alignment = self._added(np.ones(len(self.tiles.usable), np.float32))
        template = alignment.templates.tiles(0)
        used = template.template == 1
        np.testing.assert_allclose(template.grain_share[used], 1 / 31, rtol=1e-3)
        smooth = Pyramid(self.clean)[0]
        inside = slice(40, 160), slice(130, 220)
        left = [np.var((alignment.templates._all[k].reference.pyramid[0] - smooth)[inside]) for k in (0, 1)]
        self.assertLess(left[1], 0.08 * left[0])  # a thirty-first, and the coarse part that stays one frame's

    def test_what_something_covered_is_not_averaged(self) -> None:
        covered = self.tiles.centre[self.tiles.usable, 0] > 180
        alignment = self._added(np.where(covered, 0, 1).astype(np.float32))
        used = self.tiles.centre[alignment.templates.tiles(0).template == 1]
        self.assertLess(used[:, 0].max(), 200)
        self.assertGreater(len(used), 50)

    def test_the_contrast_of_a_darker_frame_is_made_the_references(self) -> None:
        frame, weight = self.frames[0], np.ones(len(self.tiles.usable), np.float32)
        full, _ = self.mean.high_pass(Pyramid(frame)[0], self.alignment.lattice.identity, self._seen(weight))
        half, _ = self.mean.high_pass(Pyramid(0.5 * frame + 20)[0], self.alignment.lattice.identity, self._seen(weight, 0.5))
        np.testing.assert_allclose(half[40:-40, 40:-40], full[40:-40, 40:-40], atol=0.05)

    def test_the_reference_frame_says_how_far_the_mean_lies_off(self) -> None:
        shift = np.array([0.4, -0.3])
        weight = np.ones(len(self.tiles.usable), np.float32)
        values = self.alignment.lattice.identity
        for frame in self.frames[1:]:  # maps that are all off alike, so that the mean is displaced
            self.mean.add(*self.mean.high_pass(Pyramid(frame)[0], values + shift, self._seen(weight)))
        alignment = self.mean.aligned_by_mean()
        assert alignment is not None
        _, information, pull = reference_on_mean(alignment)[0]
        (xx, xy, yy), push = information.sum(0), pull.sum(0)
        np.testing.assert_allclose(np.linalg.solve([[xx, xy], [xy, yy]], push), shift, atol=0.1)

    def test_clear_texture_alone_has_no_mean(self) -> None:
        mask = np.zeros(self.clean.shape, np.uint8)
        mask[20:180, 20:70] = 255
        alignment = MeshAlignment(MeshReference(Pyramid(self.frames[0]), mask), Lattice.over(np.array([[20.0, 20], [70, 180]]), 40), None)
        self.assertIsNone(MeanOfFrames(alignment).aligned_by_mean())


if __name__ == "__main__":
    unittest.main()
