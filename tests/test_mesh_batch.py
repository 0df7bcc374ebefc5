"""All frames of a mesh aligned together: what the trajectories of its well measured parts say of the others."""

import unittest
from dataclasses import replace
from functools import cache
from unittest.mock import patch

import cv2
import numpy as np

from tests.scenes import SIZE, FramesPlate, texture
from tests.test_mesh import plate, untracked
from tests.waves import REFERENCE
from wertis.core.blas import single_threaded
from wertis.core.geometry.bspline import DIFFERENCES, Lattice, NormalEquations, difference, difference_matrix
from wertis.core.geometry.mesh import Mesh, MeshFix, laid
from wertis.core.geometry.warp import FunctionWarp
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.imaging.resample import warped
from wertis.core.jobs.tracking import runs_from, tracked
from wertis.core.track.mesh import batch, batch_equations, settings
from wertis.core.track.mesh.alignment import MeshAlignment
from wertis.core.track.mesh.batch import BatchRefinement
from wertis.core.track.mesh.batch_equations import BatchEquations, ReferenceMeasure, joint_errors
from wertis.core.track.mesh.observation import Observation
from wertis.core.track.mesh.reference import MeshReference
from wertis.core.track.mesh.run import track_mesh
from wertis.core.track.mesh.trajectory_prior import TrajectoryPrior, learned_prior

COUNT = 24
QUAD = np.array([[110.0, 50], [380, 50], [380, 275], [110, 275]])
MASK = cv2.fillPoly(np.zeros((SIZE[1], SIZE[0]), np.uint8), [QUAD.astype(np.int32)], 255)
MESH = Mesh(laid(MASK, 26))
FADED = np.array([300.0, 170.0])  # the middle of the part with little texture
NEAR = np.linalg.norm(MESH.vertices - FADED, axis=1) < 45


def swaying(points: np.ndarray, frame: float) -> np.ndarray:
    """Where points (..., 2) of frame 0 are: a wave in two places goes through them."""
    x, y = points[..., 0], points[..., 1]
    high, wide = 4 * np.sin(0.5 * frame), 3 * (1 - np.cos(0.31 * frame))
    return np.stack([x + 1.1 * frame + high * np.sin(y / 45), y + high * np.sin(x / 60) + wide * np.cos(x / 80)], axis=-1)


def flapping(points: np.ndarray, frame: float) -> np.ndarray:
    """The same, and the part with little texture moves by itself as well, by up to 3 pixels."""
    near = np.exp(-0.5 * ((points - FADED) ** 2).sum(-1) / 30 ** 2)
    return swaying(points, frame) + near[..., None] * 3 * np.array([np.sin(0.7 * frame), np.sin(0.9 * frame)])


@cache
def filmed(flaps: bool = False, contrast: float = 0.04) -> FramesPlate:
    """A wall that moves so, with grain; within 40 pixels of the faded part's middle its contrast is a small part of what it is elsewhere."""
    rng = np.random.default_rng(8)
    wall = texture("coffee", SIZE).astype(np.float32)
    y, x = np.mgrid[:SIZE[1], :SIZE[0]]
    faded = np.clip((62 - np.hypot(x - FADED[0], y - FADED[1])) / 20, 0, 1)[..., None].astype(np.float32)
    wall = wall + faded * (contrast - 1) * (wall - wall.mean((0, 1)))
    motion = flapping if flaps else swaying
    frames = []
    for k in range(COUNT):
        seen = warped(wall, FunctionWarp(lambda p, k=k: motion(p, k)), SIZE, cv2.INTER_CUBIC)
        frames.append(np.clip(seen + rng.normal(0, 2, seen.shape), 0, 255).astype(np.uint8))
    return FramesPlate(frames)


@cache
def followed(flaps: bool = False, contrast: float = 0.04) -> tuple[dict[int, MeshFix], dict[int, MeshFix]]:
    """The answers of each frame by itself, and those of all together."""
    together = BatchRefinement()
    with single_threaded():
        each = dict(track_mesh(filmed(flaps, contrast), MESH, MASK, 0, range(1, COUNT), batch=together))
        return each, dict(each) | dict(together.answers())


def away(answers: dict[int, MeshFix], motion=swaying) -> np.ndarray:  # type: ignore[no-untyped-def]
    """(frames, V) how far the vertices are from the truth, pixels."""
    found = [(frame, fix.places) for frame, fix in sorted(answers.items())]
    return np.array([np.linalg.norm(at - motion(MESH.vertices, frame), axis=1) for frame, at in found if at is not None])


def rms(errors: np.ndarray) -> float:
    return float(np.sqrt(np.mean(errors ** 2)))


class TrackedTogetherTest(unittest.TestCase):
    def test_what_has_little_texture_is_nearer_to_the_truth_by_a_quarter_and_nothing_else_is_farther(self) -> None:
        each, together = followed()
        before, after = away(each), away(together)
        self.assertEqual(len(after), COUNT - 1)
        self.assertLess(rms(after[:, NEAR]), 0.75 * rms(before[:, NEAR]))
        self.assertLessEqual(rms(after[:, ~NEAR]), rms(before[:, ~NEAR]))

    def test_what_is_stated_is_true_on_nine_of_ten(self) -> None:
        _, together = followed()
        stated = np.array([fix.errors for _, fix in sorted(together.items())])
        self.assertGreater(np.mean(away(together) <= 2 * stated), 0.9)

    def test_it_states_less_where_it_is_surer(self) -> None:
        each, together = followed()
        measured = np.array([fix.measured for _, fix in sorted(each.items())])
        before, after = (np.array([fix.errors for _, fix in sorted(a.items())])[measured] for a in (each, together))
        self.assertLess(np.median(after), 0.95 * np.median(before))
        self.assertGreaterEqual(after.min(), settings.UNCERTAINTY.least)

    def test_a_part_with_little_texture_that_moves_by_itself_is_not_held_back(self) -> None:
        each, together = followed(True, 0.2)
        before, after = away(each, flapping), away(together, flapping)
        self.assertLessEqual(rms(after[:, NEAR]), 1.02 * rms(before[:, NEAR]))
        self.assertLess(rms(after[:, NEAR]), 0.2)  # of 3 pixels

    def test_the_same_frames_give_the_same_bits(self) -> None:
        _, once = followed()
        followed.cache_clear()
        _, twice = followed()
        for frame, fix in once.items():
            np.testing.assert_array_equal(fix.places, twice[frame].places)
            np.testing.assert_array_equal(fix.errors, twice[frame].errors)

    def test_a_few_frames_stay_as_they_are(self) -> None:
        with single_threaded():
            answers = list(track_mesh(filmed(), MESH, MASK, 0, range(1, settings.BATCH.least_frames - 1)))
        self.assertEqual(len(answers), len({frame for frame, _ in answers}))

    def test_a_surface_that_never_moves_stays_where_it_is(self) -> None:
        still = FramesPlate([filmed().pictures[0]] * 14)
        together = BatchRefinement()
        with single_threaded():
            each = dict(track_mesh(still, MESH, MASK, 0, range(1, 14), batch=together))
            better = dict(each) | dict(together.answers())
        for fix in better.values():
            assert fix.places is not None
            self.assertLess(np.abs(fix.places - MESH.vertices).max(), 0.02)

    def test_where_nothing_can_be_solved_each_frames_own_answer_stands(self) -> None:
        together = BatchRefinement()
        with single_threaded():
            each = dict(track_mesh(filmed(), MESH, MASK, 0, range(1, COUNT), batch=together))
            for frame, seen in together._observed.items():
                together._observed[frame] = replace(seen, known=np.zeros_like(seen.known))
            with self.assertLogs("wertis.core.track.mesh.batch", "WARNING") as said:
                self.assertEqual(dict(together.answers()), {})
        self.assertIn("frames 1 to 23", said.output[0])
        self.assertEqual(len(each), COUNT - 1)

    def test_a_long_shot_is_aligned_block_by_block_and_what_is_kept_is_bounded(self) -> None:
        together, most = BatchRefinement(), 0
        small = replace(settings.BATCH, least_frames=5, most_frames=10)
        with single_threaded(), patch.object(batch, "BATCH", small):
            each, better = {}, {}
            for frame, fix in track_mesh(filmed(), MESH, MASK, 0, range(1, COUNT), batch=together):
                (better if frame in each else each)[frame] = fix
                most = max(most, len(together._observed))
            better |= dict(together.answers())
            self.assertFalse(together._observed)
            self.assertEqual(together._most, 10)
        with patch.object(batch, "BATCH", replace(settings.BATCH, most_tiles=1e4)):  # a surface with many tiles for its memory
            self.assertEqual(together._most, 2 * settings.BATCH.least_frames)
        self.assertEqual(most, 10)
        self.assertEqual(set(better), set(range(1, COUNT)))
        self.assertLess(rms(away(better)[:, NEAR]), rms(away(each)[:, NEAR]))

    def test_whoever_tracks_hears_that_frames_are_aligned_together(self) -> None:
        made, heard = untracked(), []
        with single_threaded(), patch.object(batch, "BATCH", replace(settings.BATCH, least_frames=5)):
            tracked(made, made.tracks[0].id, plate(), runs_from(made, made.tracks[0], REFERENCE, "both"), progress=heard.append)
        notes = [(event.frame, event.note) for event in heard if event.note]
        self.assertIn((None, "aligning all frames together, 3 of 10"), notes)

    def test_at_half_resolution_answers_are_in_the_plates_pixels(self) -> None:
        together = BatchRefinement()
        with single_threaded():
            each = dict(track_mesh(filmed(), MESH, MASK, 0, range(1, COUNT), half=True, batch=together))
            better = dict(each) | dict(together.answers())
        self.assertLess(np.median(away(better)), 0.95 * np.median(away(each)))
        self.assertLess(np.median(away(better)), 0.2)


class TrajectoryPriorTest(unittest.TestCase):
    """(T, 6, 8) control points that move in two ways, made with known numbers."""

    def setUp(self) -> None:
        rng = np.random.default_rng(2)
        self.time = np.arange(40)
        ways = np.stack([np.sin(0.3 * self.time), np.cos(0.2 * self.time) - 1])
        shapes = rng.normal(0, 1, (2, 6, 8, 2)) * np.array([5.0, 3.0])[:, None, None, None]
        self.moved = np.einsum("kt,kijc->tijc", ways, shapes)
        self.known = np.ones((40, 6, 8))

    def test_it_finds_the_space_that_the_trajectories_span(self) -> None:
        y, x = np.indices((6, 8))
        turned = np.stack([0.02 * y, -0.02 * x], axis=-1)[None] * self.time[:, None, None, None]
        prior = learned_prior(self.moved + turned, self.known)
        variances = np.sort(prior.variances)[::-1]
        self.assertGreater(variances[1], 1.0)
        self.assertLess(variances[2], 1e-9)
        own = (self.moved + turned - prior.affine).reshape(40, -1)
        span = prior.modes[:, np.argsort(prior.variances)[-2:]]
        np.testing.assert_allclose(span @ (span.T @ own), own, atol=1e-9)

    def test_grain_is_no_motion_and_what_goes_on_from_frame_to_frame_is(self) -> None:
        rng = np.random.default_rng(3)
        little = self.known.copy()
        little[:, :3] = 0.3
        grainy, own = self.moved.copy(), self.moved.copy()
        grainy[:, :3] += rng.normal(0, 0.3, grainy[:, :3].shape)
        own[:, :3] += 0.3 * np.sin(0.9 * self.time + 1)[:, None, None, None]
        of_grain, of_motion = (np.median(learned_prior(m, little).deviations[:2]) for m in (grainy, own))
        self.assertLess(of_grain, 0.2 * 0.3 ** 2)
        self.assertGreater(of_motion, 0.3 * 0.3 ** 2)


class EquationsTest(unittest.TestCase):
    """A few control points, against the same squares put together in dense matrices by NumPy."""

    def setUp(self) -> None:
        rng = np.random.default_rng(5)
        picture = cv2.GaussianBlur(rng.integers(0, 255, (150, 170)).astype(np.float32), (0, 0), 2)
        mask = np.zeros(picture.shape, np.uint8)
        mask[20:130, 20:150] = 255
        self.lattice = Lattice.over(np.array([[20.0, 20], [150, 130]]), 40)
        self.alignment = MeshAlignment(MeshReference(Pyramid(picture), mask), self.lattice, None)
        identity, shape = self.lattice.identity, self.lattice.shape
        self.observed = []
        for _ in range(5):
            measures = {}
            for level in (0, 1):
                n = len(self.alignment.reference.tiles(level).usable)
                root = rng.normal(0, 3, (n, 2, 2))
                square = root @ root.transpose(0, 2, 1)
                measures[level] = (square[:, [0, 0, 1], [0, 1, 1]].astype(np.float32), rng.normal(0, 2, (n, 2)).astype(np.float32))
            values = identity + rng.normal(0, 2, identity.shape)
            self.observed.append(Observation(values, values + rng.normal(0, 0.1, identity.shape), rng.uniform(0.5, 1, shape),
                                             rng.uniform(0, 1, shape) ** 4, measures, np.ones(0), np.ones(0), {2: 0.001, 4: 1.0}, 0.5, False))
        modes = np.linalg.qr(rng.normal(0, 1, (5, 5)))[0]
        self.prior = TrajectoryPrior(rng.normal(0, 1, (5, *identity.shape)), modes, np.array([9.0, 4, 0.01, 0, 0]), rng.uniform(0.001, 0.1, shape))

    def _dense(self, reference: dict[int, ReferenceMeasure] | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Matrix and right-hand side for all frames' displacements and the reference's, minimised by them."""
        count, frames = self.lattice.rows * self.lattice.columns, len(self.observed)
        size = 2 * count
        matrix, right = np.zeros(((frames + 1) * size,) * 2), np.zeros((frames + 1) * size)
        identity = self.lattice.identity.ravel()
        affine = self.prior.affine.reshape(frames, -1)
        at = [slice(t * size, (t + 1) * size) for t in range(frames + 1)]
        of_reference = settings.BATCH.reference_damping * np.eye(size)
        information_usual = {level: np.mean([self._share(level)[:, None] * o.measures[level][0] for o in self.observed], axis=0) for level in (0, 1)}
        for level, (part, information, pull) in (reference or {}).items():
            basis = np.kron(self._basis(level)[:, part], np.eye(2))
            usual = information_usual[level]
            for k, (tile, own) in enumerate(zip(part, information, strict=True)):
                # as much as on other frames, by its own structure
                much = (usual[tile, 0] + usual[tile, 2]) / (own[0] + own[2])
                right[at[frames]] += much * basis[:, 2 * k:2 * k + 2] @ pull[k]
                usual[tile] = much * own
        for level, usual in information_usual.items():
            of_reference += self._normal(level, usual)
        for t, seen in enumerate(self.observed):
            about = seen.linearised_at.ravel() - identity - affine[t]
            for level, (information, pull) in seen.measures.items():
                share = self._share(level)[:, None]
                normal = self._normal(level, share * information)
                push = normal @ about + np.kron(self._basis(level), np.eye(2)) @ (share * pull).ravel()
                for a in (at[t], at[frames]):
                    right[a] += push
                    for b in (at[t], at[frames]):
                        matrix[a, b] += normal
            for order, share in seen.orders.items():
                for kernel, _ in DIFFERENCES[order]:
                    rows = np.kron(difference_matrix(self.lattice, kernel).toarray(), np.eye(2))
                    bend = (rows @ seen.values.ravel()).reshape(-1, 2)
                    spread = np.abs(kernel) / np.abs(kernel).sum()
                    known, hidden = (difference(a[..., None], spread).ravel() for a in (seen.known, seen.hidden))
                    squares, sure = self._squares_of_all(kernel)
                    variance = (sure * squares).sum() / sure.sum() / 2 + settings.BENDING.least_difference ** 2
                    student = known * 6 / (4 * variance + (bend ** 2).sum(1)) + (1 - known) * 6 / (4 * variance)
                    weight = np.repeat(settings.BATCH.bending_share * share * student * (1 - 0.999 * hidden), 2)
                    matrix[at[t], at[t]] += rows.T @ (weight[:, None] * rows)
                    right[at[t]] -= rows.T @ (weight * (rows @ (identity + affine[t])))
            stays = np.repeat(seen.hidden.ravel(), 2) * settings.PREDICTION.damping_occluded
            matrix[at[t], at[t]] += np.diag(stays)
            right[at[t]] += stays * (seen.values.ravel() - identity - affine[t])
        for s in range(frames):
            for t in range(frames):
                each = sum(np.repeat(1 / (v + self.prior.deviations.ravel()), 2) * m[s] * m[t]
                           for v, m in zip(self.prior.variances, self.prior.modes.T, strict=True))
                matrix[at[s], at[t]] += np.diag(each)
        matrix[at[frames], at[frames]] += of_reference
        return matrix, right

    def _squares_of_all(self, kernel: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Of all frames' differences of a kind, their squares, and how far they are measured, to the fourth power."""
        spread = np.abs(kernel) / np.abs(kernel).sum()
        return (np.array([(difference(o.values, kernel) ** 2).sum(-1) for o in self.observed]),
                np.array([difference(o.known[..., None], spread)[..., 0] ** 4 for o in self.observed]))

    def _share(self, level: int) -> np.ndarray:
        """How many times as much each tile says when the grain of its template, as part of a frame's, is told apart from what else is left of it."""
        tiles, grain = self.alignment.templates.tiles(level), self.alignment.grain
        tiles = tiles.part(tiles.usable)
        other = 2 * settings.PHOTOMETRY.interpolation_variance + settings.PHOTOMETRY.model_error * tiles.energy
        return np.asarray((grain + grain * tiles.grain_share + other) / (grain + other))

    def _basis(self, level: int) -> np.ndarray:
        return np.asarray(self.alignment.tile_basis(self.alignment.reference.tiles(level), self.lattice).toarray())

    def _normal(self, level: int, information: np.ndarray) -> np.ndarray:
        basis = np.kron(self._basis(level), np.eye(2))
        weight = np.zeros((basis.shape[1],) * 2)
        for k, (xx, xy, yy) in enumerate(information):
            weight[2 * k:2 * k + 2, 2 * k:2 * k + 2] = [[xx, xy], [xy, yy]]
        return np.asarray(basis @ weight @ basis.T)

    def test_a_reference_frame_that_is_compared_with_a_mean_is_one_more_frame(self) -> None:
        reference = self.alignment.reference
        count = len(reference.tiles(0))
        self.alignment.templates = self.alignment.templates.with_mean(reference, np.arange(0, count, 2), np.full(-(-count // 2), 0.05))
        shares = self._share(0)
        self.assertGreater(shares[1], shares[0])
        part, rng = np.arange(0, len(shares), 2), np.random.default_rng(9)
        root = rng.normal(0, 3, (len(part), 2, 2))
        information = (root @ root.transpose(0, 2, 1))[:, [0, 0, 1], [0, 1, 1]]
        measure = {0: (part, information, rng.normal(0, 2, (len(part), 2)))}
        moved = np.array([o.values for o in self.observed]) - self.lattice.identity
        with patch.object(batch_equations, "BATCH", replace(settings.BATCH, steps=400)):
            found, apparent = BatchEquations(self.alignment, self.observed, self.prior, None, measure).solve(moved)
        wanted = np.linalg.solve(*self._dense(measure)).reshape(len(moved) + 1, *moved.shape[1:])
        np.testing.assert_allclose(found - self.prior.affine, wanted[:-1], atol=1e-5)
        np.testing.assert_allclose(apparent, wanted[-1], atol=1e-5)
        self.assertGreater(np.abs(apparent).max(), 1e-3)

    def test_many_steps_come_to_what_a_dense_solution_gives(self) -> None:
        frames, identity = len(self.observed), self.lattice.identity
        moved = np.array([o.values for o in self.observed]) - identity
        with patch.object(batch_equations, "BATCH", replace(settings.BATCH, steps=400)):
            found, apparent = BatchEquations(self.alignment, self.observed, self.prior, None).solve(moved)
        wanted = np.linalg.solve(*self._dense()).reshape(frames + 1, *identity.shape)
        np.testing.assert_allclose(found - self.prior.affine, wanted[:-1], atol=1e-5)
        np.testing.assert_allclose(apparent, wanted[-1], atol=1e-5)

    def test_the_usual_steps_come_most_of_the_way(self) -> None:
        moved = np.array([o.values for o in self.observed]) - self.lattice.identity
        equations = BatchEquations(self.alignment, self.observed, self.prior, None)
        found, _ = equations.solve(moved)
        wanted = np.linalg.solve(*self._dense()).reshape(len(moved) + 1, *moved.shape[1:])[:-1]
        self.assertLess(rms(found - self.prior.affine - wanted), 0.2 * rms(moved - self.prior.affine - wanted))

    def test_a_difference_as_a_matrix_gives_what_it_gives_as_a_filter(self) -> None:
        values = np.random.default_rng(1).normal(0, 1, (*self.lattice.shape, 1))
        for order in DIFFERENCES:
            for kernel, _ in DIFFERENCES[order]:
                if kernel.shape[0] <= self.lattice.rows and kernel.shape[1] <= self.lattice.columns:
                    np.testing.assert_allclose(difference_matrix(self.lattice, kernel) @ values.ravel(), difference(values, kernel).ravel(), atol=1e-12)

    def test_several_right_hand_sides_are_solved_as_one_by_one(self) -> None:
        rng = np.random.default_rng(7)
        for lattice in (self.lattice, Lattice.over(np.array([[0.0, 0], [60, 200]]), 20)):
            system = NormalEquations(lattice)
            system.add_bending(2, 1.0)
            system.add_diagonal(np.ones(lattice.shape))
            right = rng.normal(0, 1, (*lattice.shape, 3, 2))
            system.factorise()
            found = system.solved_for_each(right)
            for k in range(3):
                np.testing.assert_allclose(found[:, :, k], system.solved_for(right[:, :, k]), atol=1e-12)


class JointErrorsTest(unittest.TestCase):
    def test_it_is_the_posterior_of_a_gaussian_model_worked_out_by_dense_inverses(self) -> None:
        """Against the covariance of a normal distribution, conditioned: C. Bishop, Pattern Recognition and Machine Learning, 2006, (2.82)."""
        rng = np.random.default_rng(4)
        frames, spread, own, stated = 12, np.r_[np.zeros(9), 0.5, 2, 8], 0.01, 0.3
        modes = np.linalg.qr(rng.normal(0, 1, (frames, frames)))[0]
        prior = TrajectoryPrior(np.zeros((frames, 1, 1, 2)), modes, spread, np.zeros((1, 1)))
        whole = np.zeros((frames + 1, frames + 1))  # of all frames' places, and the reference's displacement
        whole[:frames, :frames] = modes @ np.diag(spread + own) @ modes.T
        whole[frames, frames] = stated ** 2 / 2
        seen = np.hstack([np.eye(frames), np.ones((frames, 1))])
        noise = stated ** 2 / 2 * np.eye(frames)
        after = whole - whole @ seen.T @ np.linalg.solve(seen @ whole @ seen.T + noise, seen @ whole)
        errors = np.full((frames, 1), stated)
        with patch.object(batch_equations, "BATCH", replace(settings.BATCH, model_error=0.0)):
            found = joint_errors(errors, np.ones((frames, 1), bool), prior, np.array([own]))
        np.testing.assert_allclose(found[:, 0], np.sqrt(np.diag(after)[:frames]), rtol=1e-6)

    def test_what_was_not_measured_keeps_what_it_states(self) -> None:
        prior = TrajectoryPrior(np.zeros((3, 1, 1, 2)), np.eye(3), np.ones(3), np.zeros((1, 1)))
        errors = np.array([[0.1], [7.0], [0.1]])
        found = joint_errors(errors, errors < 1, prior, np.array([0.01]))
        self.assertEqual(found[1, 0], 7.0)
        self.assertLessEqual(found[0, 0], 0.1)


if __name__ == "__main__":
    unittest.main()
