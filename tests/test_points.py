"""Points: tracked, hidden, put right, joined to a motion, kept and handed on."""

import csv
import tempfile
import unittest
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from PySide6.QtCore import Qt

import wertis
from tests.scenes import SIZE, texture
from tests.test_motions import Conformance
from tests.test_window import WindowCase
from tests.waves import LAST, QUAD, REFERENCE, filmed, waved
from wertis.cli.main import main
from wertis.core.errors import RegionError
from wertis.core.geometry import homography
from wertis.core.geometry.affine import allowed_kind, robust_fit
from wertis.core.geometry.bspline import Lattice
from wertis.core.geometry.motion import Motion
from wertis.core.geometry.smooth_field import fitted_field
from wertis.core.jobs.point_tracking import good_spots
from wertis.core.jobs.tracking import runs_from, tracked
from wertis.core.shot import edits, points, store
from wertis.core.shot.document import PlateRef, Shot
from wertis.core.shot.points import Pattern, PointsSettings, PointsSolution
from wertis.core.shot.resolve import motion_of
from wertis.core.track.point_run import pattern_side
from wertis.core.track.points import PointTracker

FIRST, COUNT = 1001, 8
START = np.array([[100.0, 90], [380, 100], [370, 240], [110, 230], [240, 160]])
NAMES = ("a", "b", "c", "d", "e")


def placed(at: np.ndarray, frame: int) -> np.ndarray:
    """Where points (N, 2) of the wall are: it shifts, turns and grows."""
    t = frame - FIRST
    angle, grow = np.radians(0.6 * t), 1 + 0.004 * t
    turn = grow * np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
    return (at - [240, 160]) @ turn.T + [240 + 1.7 * t, 160 - 0.8 * t]


@cache
def film() -> list[np.ndarray]:
    """(h, w, 3) uint8 frames of a flat wall; something passes over point e on frames 5 to 7."""
    wall = texture(size=SIZE).astype(np.float32)
    rng = np.random.default_rng(3)
    out = []
    for frame in range(FIRST, FIRST + COUNT):
        corners = np.array([[0.0, 0], [SIZE[0], 0], [SIZE[0], SIZE[1]]])
        matrix = cv2.getAffineTransform(corners.astype(np.float32) - 0.5, placed(corners, frame).astype(np.float32) - 0.5)
        seen = cv2.warpAffine(wall, matrix, SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        if FIRST + 4 <= frame <= FIRST + 6:
            x, y = placed(START[4:], frame)[0].astype(int)
            cv2.circle(seen, (x, y), 34, (40, 60, 90), cv2.FILLED)
        out.append(np.clip(seen + rng.normal(0, 1.5, seen.shape), 0, 255).astype(np.uint8))
    return out


def written(folder: Path) -> Path:
    for k, picture in enumerate(film()):
        cv2.imwrite(str(folder / f"wall.{FIRST + k:04d}.png"), picture)
    return folder


class FitTest(unittest.TestCase):
    """Motions through points against what made them, and against OpenCV."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(5)

    def test_so_many_points_determine_so_much(self) -> None:
        """Common practice: one point position, two scale and turn, three shear, four perspective."""
        self.assertEqual([allowed_kind("perspective", n) for n in (1, 2, 3, 4, 9)], ["shift", "similarity", "affine", "perspective", "perspective"])
        self.assertEqual(allowed_kind("shift", 9), "shift")

    def test_one_axis_alone(self) -> None:
        source = self.rng.uniform(0, 400, (6, 2))
        target = source + [5.0, 0] + np.column_stack([np.zeros(6), self.rng.uniform(-30, 30, 6)])
        matrix, away = robust_fit("shift-x", source, target, np.full(6, 0.1))
        np.testing.assert_allclose(matrix, [[1, 0, 5], [0, 1, 0], [0, 0, 1]], atol=1e-9)
        self.assertLess(away.max(), 1e-9)
        matrix, _ = robust_fit("shift-y", source[:1], target[:1], np.full(1, 0.1))
        np.testing.assert_allclose(matrix[:2, 2], [0, target[0, 1] - source[0, 1]])

    def test_each_kind_is_found_again(self) -> None:
        source = self.rng.uniform(0, 400, (9, 2))
        angle = 0.2
        made = {"shift": np.eye(3), "shift-scale": np.diag([1.3, 1.3, 1.0]), "similarity": np.eye(3), "shift-turn": np.eye(3),
                "affine": np.array([[1.1, 0.2, 0], [-0.1, 0.9, 0], [0, 0, 1.0]]), "perspective": np.array([[1, 0.1, 0], [0, 1.2, 0], [2e-4, -1e-4, 1.0]])}
        turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        made["shift-turn"][:2, :2], made["similarity"][:2, :2] = turn, 0.8 * turn
        for kind, matrix in made.items():
            matrix[:2, 2] += [12, -7]
            target = homography.apply(matrix, source)
            found, away = robust_fit(kind, source, target, np.full(9, 0.1))  # type: ignore[arg-type]
            np.testing.assert_allclose(homography.apply(found, source), target, atol=1e-6, err_msg=kind)
            self.assertLess(away.max(), 1e-6)

    def test_one_that_disagrees_counts_little(self) -> None:
        source = self.rng.uniform(0, 400, (10, 2))
        matrix = cv2.getRotationMatrix2D((200.0, 200.0), 9, 1.1)
        target = source @ matrix[:, :2].T + matrix[:, 2]
        wrong = target.copy()
        wrong[3] += [30, -20]
        found, away = robust_fit("similarity", source, wrong, np.full(10, 0.1))
        np.testing.assert_allclose(homography.apply(found, source), target, atol=0.1)
        self.assertEqual(int(away.argmax()), 3)
        theirs = cv2.estimateAffinePartial2D(source, wrong, method=cv2.RANSAC)[0]  # OpenCV's robust similarity
        np.testing.assert_allclose(homography.apply(found, source), source @ theirs[:, :2].T + theirs[:, 2], atol=0.2)

    def test_points_on_a_line_give_a_similarity(self) -> None:
        """They do not determine shear or perspective; one that disagrees counts little all the same."""
        source = np.column_stack([np.linspace(10, 300, 9), 40 + 0.5 * np.linspace(10, 300, 9)])
        matrix = cv2.getRotationMatrix2D((150.0, 100.0), 12, 0.9)
        target = source @ matrix[:, :2].T + matrix[:, 2]
        wrong = target.copy()
        wrong[4] += [25, 40]
        for kind in ("affine", "perspective"):
            found, away = robust_fit(kind, source, wrong, np.full(9, 0.1))  # type: ignore[arg-type]
            np.testing.assert_allclose(found[:2], matrix, atol=2e-2, err_msg=kind)
            np.testing.assert_allclose(homography.apply(found, source), target, atol=0.2, err_msg=kind)
            self.assertEqual(int(away.argmax()), 4)

    def test_a_smooth_field_joins_what_was_measured(self) -> None:
        places = self.rng.uniform(0, 300, (150, 2))
        lattice = Lattice.over(places, 40)

        def truth(p: np.ndarray) -> np.ndarray:
            return np.column_stack([3 * np.sin(p[:, 0] / 90), 2 * np.cos(p[:, 1] / 80)])

        moves = truth(places) + self.rng.normal(0, 0.1, (150, 2))
        wanted = self.rng.uniform(40, 260, (40, 2))
        field = fitted_field(lattice, places, moves, np.tile(0.01 * np.eye(2), (150, 1, 1)))
        found, covariance = field.at(wanted), field.covariance(wanted)
        away = np.linalg.norm(found - truth(wanted), axis=1)
        self.assertLess(np.sqrt((away ** 2).mean()), 0.12)
        self.assertGreater((away < 2 * np.sqrt(np.linalg.eigvalsh(covariance)[:, 1])).mean(), 0.9)


class TrackingTest(unittest.TestCase):
    @cache  # noqa: B019
    def shot(self) -> Shot:
        made = Shot(plate=PlateRef(path="/nowhere/wall", first=FIRST, last=FIRST + COUNT - 1, size=SIZE), range=(FIRST, FIRST + COUNT - 1))
        made, track = edits.add_track(made, np.array([[60.0, 50], [420, 50], [420, 280], [60, 280]]), FIRST, "Wall")
        made = edits.set_settings(made, track.id, PointsSettings(points=START, names=NAMES, patterns=(Pattern(),) * 5))
        return tracked(made, track.id, Film(), runs_from(made, made.tracks[0], FIRST, "both"))  # type: ignore[arg-type]

    def solution(self) -> PointsSolution:
        found = self.shot().tracks[0].solution
        assert isinstance(found, PointsSolution)
        return found

    def test_points_are_followed_and_a_hidden_one_goes_with_the_others(self) -> None:
        found = self.solution()
        for k, frame in enumerate(found.frames):
            truth = placed(START, int(frame))
            away = np.linalg.norm(found.places[k] - truth, axis=1)
            self.assertLess(away[found.measured[k]].max(), 0.25, int(frame))
            self.assertEqual(bool(found.measured[k, 4]), not FIRST + 4 <= frame <= FIRST + 6, int(frame))
            self.assertLess(away[4], 1.0)
            self.assertTrue((away < 3 * found.errors[k] + 1e-9).all())
            self.assertGreater(found.matches[k][found.measured[k]].min(), 0.9)

    def test_their_motion_takes_what_it_may(self) -> None:
        made = self.shot()
        ident, frame = made.tracks[0].id, FIRST + COUNT - 1
        box = np.array([[150.0, 120], [300, 200]])
        motion = motion_of(made.tracks[0])
        assert motion is not None
        np.testing.assert_allclose(motion.at(frame).forward(box), placed(box, frame), atol=0.2)  # type: ignore[union-attr]
        only = points.use_points(made, ident, {"b", "c", "d", "e"})
        shifted = motion_of(only.tracks[0]).at(frame).forward(box) - box  # type: ignore[union-attr]
        np.testing.assert_allclose(shifted[0], shifted[1], atol=1e-9)  # one point gives position
        two = points.use_points(made, ident, {"b", "d", "e"}, "perspective")
        np.testing.assert_allclose(motion_of(two.tracks[0]).at(frame).forward(box), placed(box, frame), atol=0.4)  # type: ignore[union-attr]
        with self.assertRaisesRegex(RegionError, "At least one"):
            points.use_points(made, ident, set(NAMES))
        with self.assertRaisesRegex(RegionError, "no point named"):
            points.use_points(made, ident, {"x"})

    def test_the_point_that_disagrees_is_named(self) -> None:
        made, found = self.shot(), self.solution()
        wrong = found.places.copy()
        wrong[1:, 2] += [8, 3]
        spoilt = made.with_track(made.tracks[0].but(solution=found.but(places=wrong, measured=np.ones_like(found.measured), model="similarity")))
        name, off = spoilt.tracks[0].solution.disagreeing  # type: ignore[union-attr]
        self.assertEqual(name, "c")
        self.assertGreater(off, 5)

    def test_a_point_is_put_right_and_tracking_goes_on_from_there(self) -> None:
        made, found = self.shot(), self.solution()
        frame = FIRST + 4
        k = found.index(frame)
        assert k is not None
        lost = found.places.copy()
        lost[k:, 0] += [60, 40]
        spoilt = made.with_track(made.tracks[0].but(solution=found.but(places=lost)))
        there = lost[k].copy()
        there[0] = placed(START[:1], frame)[0] + 0.5
        right = points.put_points(spoilt, made.tracks[0].id, frame, there)
        again = tracked(right, made.tracks[0].id, Film(), runs_from(right, right.tracks[0], frame, "forward"))  # type: ignore[arg-type]
        self.assertLess(np.linalg.norm(again.tracks[0].solution.places[-1, 0] - placed(START[:1], FIRST + COUNT - 1)[0]), 0.15)  # type: ignore[union-attr]
        with self.assertRaisesRegex(RegionError, "no answer"):
            points.put_points(made, made.tracks[0].id, 9999, there)

    def test_good_spots_are_found_and_spread(self) -> None:
        made = self.shot()
        found = good_spots(made, made.tracks[0], Film(), 8)  # type: ignore[arg-type]
        self.assertEqual(len(found), 8)
        apart = np.linalg.norm(found[:, None] - found[None], axis=2) + 1e6 * np.eye(8)
        self.assertGreater(apart.min(), 40)
        ours = {tuple(np.floor(p).astype(int)) for p in found}
        grey = cv2.GaussianBlur(cv2.cvtColor(film()[0], cv2.COLOR_BGR2GRAY), (0, 0), 1.5)
        theirs = cv2.goodFeaturesToTrack(grey, 300, 0.01, 5)[:, 0]  # OpenCV's corners by Shi and Tomasi
        self.assertTrue(all(np.linalg.norm(theirs - p, axis=1).min() < 6 for p in ours))
        with self.assertRaisesRegex(RegionError, "ask for 1"):
            good_spots(made, made.tracks[0], Film(), 0)  # type: ignore[arg-type]

    def test_points_are_edited(self) -> None:
        made = self.shot()
        ident = made.tracks[0].id
        more = points.add_point(made, ident, np.array([200.0, 100]))
        self.assertEqual(more.tracks[0].settings.names, (*NAMES, "1"))  # type: ignore[attr-defined]
        self.assertIsNone(more.tracks[0].solution)
        less = points.remove_points(made, ident, {"b"})
        self.assertEqual(less.tracks[0].solution.names, ("a", "c", "d", "e"))  # type: ignore[union-attr]
        with self.assertRaisesRegex(RegionError, "outside"):
            points.add_point(made, ident, np.array([-5.0, 100]))
        with self.assertRaisesRegex(RegionError, "outside"):
            PointTracker(np.zeros((50, 50), np.uint8), np.array([[60.0, 20]]))
        with tempfile.TemporaryDirectory() as folder:
            store.save(made, Path(folder) / "wall.wertis")
            self.assertEqual(store.load(Path(folder) / "wall.wertis").tracks, made.tracks)

    def test_a_pattern_may_lie_beside_its_point(self) -> None:
        offsets = np.array([[0.0, 0], [-30, 20], [-25, -12], [0, 0], [30, 8]])
        tracker = PointTracker(grey(0), START, offsets=offsets)
        for k in range(1, COUNT):
            fix = tracker.feed(grey(k))
            assert fix.places is not None
            away = np.linalg.norm(fix.places - placed(START, FIRST + k), axis=1)
            self.assertLess(away[fix.measured].max(), 0.3, k)  # turned and scaled with the wall, which a plain shift would leave half a pixel off
        alone = PointTracker(grey(0), START[:1], offsets=np.array([[30.0, 20]]))
        patterns = placed(START[:1] + [30, 20], FIRST + 1) - placed(START[:1], FIRST + 1)
        fix = alone.feed(grey(1))
        assert fix.places is not None
        np.testing.assert_allclose(fix.places, placed(START[:1] + [30, 20], FIRST + 1) - [30, 20], atol=0.3)  # alone it shifts
        self.assertLess(np.abs(patterns - [30, 20]).max(), 0.5)
        with self.assertRaisesRegex(RegionError, "pattern at"):
            PointTracker(grey(0), START[:1], offsets=np.array([[-200.0, 0]]))

    def test_the_search_area_holds_back_and_reaches_out(self) -> None:
        jump = 52.0
        moved = cv2.warpAffine(film()[0], np.array([[1.0, 0, jump], [0, 1, 0]]), SIZE, borderMode=cv2.BORDER_REFLECT)
        picture = cv2.cvtColor(moved, cv2.COLOR_BGR2GRAY)
        found = {}
        for reach in (0, 20, 70):
            fix = PointTracker(grey(0), START[:1], reaches=np.array([reach])).feed(picture)
            assert fix.places is not None
            found[reach] = bool(fix.measured[0]) and bool(abs(fix.places[0, 0] - START[0, 0] - jump) < 0.3)
        self.assertEqual(found, {0: False, 20: False, 70: True})
        near = cv2.cvtColor(cv2.warpAffine(film()[0], np.array([[1.0, 0, 12], [0, 1, 0]]), SIZE, borderMode=cv2.BORDER_REFLECT), cv2.COLOR_BGR2GRAY)
        for reach, there in ((16, True), (8, False)):
            self.assertEqual(bool(PointTracker(grey(0), START[:1], reaches=np.array([reach])).feed(near).measured[0]), there)

    def test_a_look_that_changes_for_good_is_renewed_and_its_error_added(self) -> None:
        before, after = (texture(name, size=SIZE).astype(np.float32) for name in ("coffee", "astronaut"))
        rng, count = np.random.default_rng(4), 90
        start = np.array([[150.0, 120], [300, 130], [200, 200]])
        pictures = []
        for k in range(count):
            seen = before + (after - before) * np.float32(k / (count - 1))
            seen = cv2.warpAffine(seen, np.array([[1, 0, 0.5 * k], [0, 1, -0.3 * k]]), SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
            pictures.append(cv2.cvtColor(np.clip(seen + rng.normal(0, 1.5, seen.shape), 0, 255).astype(np.uint8), cv2.COLOR_RGB2GRAY))
        seen_by = {}
        for renewed in (False, True):
            tracker = PointTracker(pictures[0], start, renewed=renewed)
            fixes = [tracker.feed(p) for p in pictures[1:]]
            seen_by[renewed] = np.mean([f.measured for f in fixes])
            away = np.array([np.linalg.norm(f.places - start - [0.5 * k, -0.3 * k], axis=1) for k, f in enumerate(fixes, 1)])
            measured, errors = np.array([f.measured for f in fixes]), np.array([f.errors for f in fixes])
            self.assertGreater((away < 2.5 * errors)[measured].mean(), 0.9)
            self.assertLess(away[measured].max(), 4.0)
        self.assertGreater(seen_by[True], seen_by[False] + 0.2)

    def test_patterns_are_set_and_kept(self) -> None:
        made = self.shot()
        ident = made.tracks[0].id
        other = points.set_patterns(made, ident, {"b", "c"}, side=31, reach=50, offset=(10.0, -4.0), renewed=False)
        self.assertEqual([p.side for p in other.tracks[0].settings.patterns], [0, 31, 31, 0, 0])  # type: ignore[attr-defined]
        self.assertIsNotNone(other.tracks[0].solution)
        with self.assertRaisesRegex(RegionError, "no point named x"):
            points.set_patterns(made, ident, {"x"}, side=31)
        with self.assertRaisesRegex(RegionError, "pattern of point a lies outside"):
            points.set_patterns(made, ident, {"a"}, offset=(-500.0, 0))
        with tempfile.TemporaryDirectory() as folder:
            store.save(other, Path(folder) / "wall.wertis")
            self.assertEqual(store.load(Path(folder) / "wall.wertis").tracks, other.tracks)
        again = tracked(other, ident, Film(), runs_from(other, other.tracks[0], FIRST, "both"))  # type: ignore[arg-type]
        found = again.tracks[0].solution
        assert isinstance(found, PointsSolution)
        np.testing.assert_allclose(found.points, START)
        self.assertLess(np.linalg.norm(found.places[-1, :4] - placed(START[:4], FIRST + COUNT - 1), axis=1).max(), 0.3)

    def test_many_points_follow_a_surface_that_bends(self) -> None:
        x, y = np.meshgrid(np.linspace(130, 350, 6), np.linspace(90, 240, 5))
        start = np.column_stack([x.ravel(), y.ravel()])
        grey = [cv2.cvtColor(p, cv2.COLOR_BGR2GRAY) for p in filmed()]
        tracker = PointTracker(grey[0], start)
        for k, picture in enumerate(grey[1:], 1):
            fix = tracker.feed(picture)
            assert fix.places is not None
            away = np.linalg.norm(fix.places - waved(start, REFERENCE + k), axis=1)[fix.measured]
            self.assertGreater(fix.seen, 0.9)
            self.assertLess(np.sqrt((away ** 2).mean()), 0.3)
        self.assertEqual(REFERENCE + k, LAST)
        self.assertEqual(len(QUAD), 4)

    def test_points_on_things_that_each_move_by_themselves_are_each_followed(self) -> None:
        """Fifteen cards before a grey wall, each with a motion of its own: neighbours agree on nothing, and nobody is led by them."""
        rng = np.random.default_rng(5)
        detail = cv2.resize(rng.normal(0, 45, (SIZE[1] // 5, SIZE[0] // 5)).astype(np.float32), SIZE, interpolation=cv2.INTER_CUBIC)
        start = np.stack(np.meshgrid(np.linspace(60, 420, 5), np.linspace(60, 260, 3)), axis=-1).reshape(-1, 2)
        speed = rng.uniform(-3.5, 3.5, start.shape)
        pictures = []
        for k in range(5):
            seen = np.full((SIZE[1], SIZE[0]), 120, np.float32)
            for at, step in zip(start, speed * k, strict=True):
                card = cv2.warpAffine(128 + detail, np.float32([[1, 0, step[0]], [0, 1, step[1]]]), SIZE, flags=cv2.INTER_CUBIC)
                (x0, y0), (x1, y1) = (np.round(at + step + way).astype(int) for way in (-32, 32))
                seen[y0:y1, x0:x1] = card[y0:y1, x0:x1]
            pictures.append(np.clip(seen + rng.normal(0, 2, seen.shape), 0, 255).astype(np.uint8))
        tracker = PointTracker(pictures[0], start, np.full(len(start), 31))
        for k, picture in enumerate(pictures[1:], 1):
            fix = tracker.feed(picture)
            assert fix.places is not None
            self.assertTrue(fix.measured.all())
            self.assertLess(np.linalg.norm(fix.places - start - speed * k, axis=1).max(), 0.25)

    def test_large_patterns_bend_as_the_surface_does(self) -> None:
        """In a wave of 6 px an affine pattern of 45 px is a quarter of a pixel off, and says a tenth."""
        x, y = np.meshgrid(np.linspace(130, 350, 6), np.linspace(90, 240, 5))
        start = np.column_stack([x.ravel(), y.ravel()])
        grey = [cv2.cvtColor(p, cv2.COLOR_BGR2GRAY) for p in filmed()]
        tracker, off, said = PointTracker(grey[0], start, np.full(len(start), 45)), [], []
        for k, picture in enumerate(grey[1:], 1):
            fix = tracker.feed(picture)
            assert fix.places is not None
            self.assertTrue(fix.measured.all())
            off.append(np.linalg.norm(fix.places - waved(start, REFERENCE + k), axis=1))
            said.append(fix.errors)
        self.assertLess(np.sqrt(np.square(off).mean()), 0.13)
        self.assertGreater((np.array(off) < 2 * np.array(said)).mean(), 0.9)


def grey(k: int) -> np.ndarray:
    return np.asarray(cv2.cvtColor(film()[k], cv2.COLOR_BGR2GRAY))


class Film:
    """A plate of the film, in memory."""

    size, first, last = SIZE, FIRST, FIRST + COUNT - 1
    no_cuts: frozenset[int] = frozenset()

    def read(self, frame: int) -> np.ndarray:
        return film()[frame - FIRST][..., ::-1].astype(np.float32) / 255

    def file(self, frame: int) -> None:
        return None


class PointsMotionTest(Conformance, unittest.TestCase):
    def motion(self) -> Motion:
        found = motion_of(TrackingTest().shot().tracks[0])
        assert found is not None
        return found


class CommandTest(unittest.TestCase):
    def test_the_command_and_the_scripts_door(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "plate").mkdir()
            written(folder / "plate")
            (folder / "in.csv").write_text("id,x,y\n" + "".join(f"{n},{x},{y}\n" for n, (x, y) in zip(NAMES, START, strict=True)))
            given = ["track", str(folder / "plate"), "--start", "1004", "--model", "points", "--quiet"]
            at = placed(START, 1004)
            (folder / "four.csv").write_text("id,x,y\n" + "".join(f"{n},{x},{y}\n" for n, (x, y) in zip(NAMES, at, strict=True)))
            self.assertEqual(main([*given, "--points", str(folder / "four.csv"), "--out", str(folder / "out.csv"), "--save", str(folder / "s.wertis")]), 0)
            with open(folder / "out.csv", newline="") as f:
                rows = list(csv.DictReader(f))
            self.assertEqual(list(rows[0]), ["frame", "id", "x", "y", "error"])
            for row in rows:
                truth = placed(START[NAMES.index(row["id"])], int(row["frame"]))
                self.assertLess(np.linalg.norm([float(row["x"]), float(row["y"])] - truth), 0.3)
            self.assertEqual({int(r["frame"]) for r in rows if r["id"] == "e"}, set(range(1001, 1009)) - {1005, 1006, 1007})  # hidden: no row
            self.assertEqual({int(r["frame"]) for r in rows}, set(range(1001, 1009)))  # both ways
            wall = wertis.open(folder / "s.wertis").surface("Surface")
            self.assertTrue(wall.tracked_points(1005)["a"].measured)
            self.assertFalse(wall.tracked_points(1006)["e"].measured)
            wall.use_points({"e"}, "similarity")
            np.testing.assert_allclose(wall.follow(at, 1004)[1008], placed(START, 1008), atol=0.3)
            wall.set_patterns(["a"], side=25, reach=30, offset=(4, 2))
            self.assertEqual(wall.record.settings.patterns[0].offset, (4, 2))
            (folder / "own.csv").write_text("id,x,y,side,reach,dx,dy\n" + "".join(f"{n},{x},{y},25,40,6,-3\n"
                                                                                  for n, (x, y) in zip(NAMES, at, strict=True)))
            self.assertEqual(main([*given, "--points", str(folder / "own.csv"), "--save", str(folder / "own.wertis")]), 0)
            own = wertis.open(folder / "own.wertis").surface("Surface")
            self.assertEqual([(p.side, p.reach, p.offset) for p in own.record.settings.patterns], [(25, 40, (6.0, -3.0))] * 5)
            self.assertLess(np.linalg.norm(own.tracked_points(1008)["a"].place - placed(START[:1], 1008)[0]), 0.3)
            for wrong in (["--pegs", "x.csv", "--points", str(folder / "in.csv"), "--out", "o.csv"], ["--out", "o.csv"]):
                self.assertNotEqual(main([*given, *wrong]), 0)


class PointsWindowTest(WindowCase):
    def test_points_from_finding_to_a_graphic(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.plate)
        self.until(lambda: w.viewer.picture is not None)
        start = s.shot
        shot, track = edits.add_track(s.shot, np.array(self.made.region), s.frame, "Sign")
        s.history.do("Draw", shot)
        s.select(track.id)
        s.go_step("Track")
        page = w.steps["Track"].page
        page.kind.setCurrentIndex(page.kind.findData("points"))
        page.kind.activated.emit(page.kind.currentIndex())
        self.assertIsInstance(s.track.settings, PointsSettings)
        page.points.buttons["find-spots"].click()
        self.assertEqual(len(s.track.settings.names), 4)
        w.run_command("track.both")
        self.until(lambda: w.job is None and s.track.solution is not None, 60)
        self.assertIsInstance(s.track.solution, PointsSolution)
        self.assertTrue(s.track.solution.good.all())
        tool = w.viewer.tool
        tool._chosen_changed({0})
        tool.chosen = {0}
        page.points.buttons["leave-out"].click()
        self.assertEqual(s.track.solution.left_out, ("1",))
        page.points.taken.setCurrentIndex(page.points.taken.findData("similarity"))
        page.points.taken.activated.emit(page.points.taken.currentIndex())
        self.assertEqual(s.track.solution.model, "similarity")
        self.patterns_dragged(w, page, tool)
        s.go_step("Use")
        w.steps["Use"].place()
        self.until(lambda: s.placement is not None)
        out = self.folder / "out" / "comp.####.png"
        w.steps["Deliver"].render("comp", str(out))
        self.until(lambda: w.job is None, 60)
        self.assertEqual(len(list(out.parent.glob("*.png"))), len(s.track.solution.frames))
        while s.history.undo_label:
            w.undo()
        self.assertEqual(s.shot, start)

    def patterns_dragged(self, w, page, tool) -> None:  # type: ignore[no-untyped-def]
        """A pattern's size, its search area and its place beside the point are dragged on the picture; it is seen large."""
        s, none, ctrl = w.session, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier
        s.go(s.track.region.frame)
        tool = w.viewer.tool
        tool.chosen = {0}
        w.steps["Track"]._points_chosen({0})
        place = s.track.settings.points[0]
        by_texture = page.points.side_of(0)
        self.assertEqual(by_texture, pattern_side(s.cache.get(s.frame), s.track.settings.points, 0))
        tool.press(place + by_texture / 2, 3, none)  # the corner of a pattern whose size goes by the texture
        tool.release(place + by_texture / 2)
        self.assertEqual(s.track.settings.patterns[0].side, 0, "a click moves nothing")
        tool.press(place + by_texture / 2, 3, none)
        tool.move(place + by_texture / 2 + 7, 3)
        tool.release(place + by_texture / 2 + 7)
        self.assertEqual(s.track.settings.patterns[0].side, side := by_texture + 14)
        outer = place + side / 2 + 24
        tool.press(outer, 3, none)
        tool.move(outer + 12, 3)
        tool.release(outer + 12)
        self.assertEqual(s.track.settings.patterns[0].reach, 36)
        tool.press(place, 3, ctrl)
        tool.move(place + [9, 6], 3)
        tool.release(place + [9, 6])
        self.assertEqual(s.track.settings.patterns[0].offset, (9.0, 6.0))
        np.testing.assert_array_equal(s.track.settings.points[0], place)  # the point stays
        tool.press(place + [9, 6], 3, none)  # it is taken by its middle from then on
        tool.move(place + [4, 6], 3)
        tool.release(place + [4, 6])
        self.assertEqual(s.track.settings.patterns[0].offset, (4.0, 6.0))
        self.assertTrue(page.points.large.isVisibleTo(page))
        self.until(lambda: all(crop is not None for crop in page.points.large._crops))
        s.go(s.track.region.frame + 1)
        w.steps["Track"]._points_chosen({0})
        self.assertRegex(page.points.large._words[1], r"^\d+%, \d\.\d\d px$")
        page.points.buttons["pattern-back"].click()
        self.assertEqual(s.track.settings.patterns[0].offset, (0.0, 0.0))
        page.points.reach.setValue(0)
        page.points.renewed.click()
        self.assertEqual((s.track.settings.patterns[0].reach, s.track.settings.renewed), (0, False))


del WindowCase, Conformance


if __name__ == "__main__":
    unittest.main()
