"""What several tests ask of shots and motions."""

import unittest
from pathlib import Path

import cv2
import numpy as np

import wertis
from wertis.core.geometry import homography
from wertis.core.geometry.motion import Motion
from wertis.core.plate.sequence import read_picture
from wertis.core.shot.document import HoldOut, Placement, RepairLayer, RepairPoint, Shot, Track
from wertis.core.shot.resolve import motion_of


def moved(track: Track) -> Motion:
    """A tracked track's motion, layers and all."""
    motion = motion_of(track)
    assert motion is not None
    return motion


def to_frame(motion: Motion | None, points: np.ndarray, time: float) -> np.ndarray:
    """Points (N, 2) of the reference picture at a time; nan where unknown."""
    warp = motion.at(time) if motion is not None else None
    return warp.forward(points) if warp is not None else np.full(np.shape(points), np.nan)


def to_reference(motion: Motion | None, points: np.ndarray, time: float) -> np.ndarray:
    """The inverse of `to_frame`."""
    warp = motion.at(time) if motion is not None else None
    return warp.inverse(points) if warp is not None else np.full(np.shape(points), np.nan)


def plane_at(motion: Motion | None, time: float) -> np.ndarray:
    """The homography (3, 3) of a plane's motion."""
    warp = motion.at(time) if motion is not None else None
    assert warp is not None and warp.matrix is not None
    return warp.matrix


def placement(shot: Shot, index: int = 0) -> Placement:
    """A placement of the first track."""
    return shot.placements(shot.tracks[0].id)[index]


def hold_out(shot: Shot, index: int = 0) -> HoldOut:
    """A hold-out of the first track."""
    return shot.hold_outs(shot.tracks[0].id)[index]


def repair_points(shot: Shot) -> tuple[RepairPoint, ...]:
    """The repair points of the first track."""
    return shot.tracks[0].layer(RepairLayer).points


def painted_patch_leaves_the_rest(case: unittest.TestCase, surface: wertis.Surface, quad: np.ndarray, frame: int, others: tuple[int, ...],
                                  folder: Path) -> None:
    """Assert that a patch of a quad (4, 2) that is painted on changes what was painted, and no pixel beyond it by a bit, in every format."""
    shot = surface.shot
    patch = surface.take_out(frame, quad).change(cover="all", soft=2.0)
    patch.paint("brush", [np.array(patch.size) / 2], radius=10, colour=(1, 0, 0))
    for suffix in ("png", "tif", "exr"):
        shot.render(folder / f"with.####.{suffix}", frames=list(others))
        patch.change(visible=False)
        shot.render(folder / f"without.####.{suffix}", frames=list(others))
        patch.change(visible=True)
    for other in others:
        plate = shot.plate.read(other)
        outline = surface.follow(sides(quad), frame)[other]
        inside = np.zeros(plate.shape[:2], np.uint8)
        cv2.fillPoly(inside, [np.round(outline).astype(np.int32)], 1)
        far = cv2.dilate(inside, np.ones((7, 7), np.uint8)) == 0
        case.assertGreater(int(far.sum()), 1000)
        x, y = surface.follow(homography.apply(patch.record.from_flat, np.array([patch.size]) / 2), frame)[other][0].astype(int)
        for suffix in ("png", "tif", "exr"):
            comp, untouched = (read_picture(folder / f"{name}.{other:04d}.{suffix}") for name in ("with", "without"))
            np.testing.assert_array_equal(comp[far], untouched[far])
            case.assertGreater(float(comp[y - 3:y + 4, x - 3:x + 4, 0].mean()), 2 * float(comp[y - 3:y + 4, x - 3:x + 4, 1].mean()))
    patch.remove()


def sides(quad: np.ndarray) -> np.ndarray:
    """The sides of a quad (4, 2) in small steps."""
    t = np.arange(32)[:, None] / 32
    return np.concatenate([a + (b - a) * t for a, b in zip(quad, np.roll(quad, -1, 0), strict=True)])
