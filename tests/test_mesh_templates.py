"""Meshes on a surface that comes to look otherwise: newer looks that are taken by themselves, and further reference frames that a person names."""

import tempfile
import unittest
from functools import cache
from pathlib import Path
from unittest.mock import patch

import cv2
import numpy as np

from tests.scenes import SIZE, FramesPlate, texture
from tests.waves import REFERENCE, waved
from wertis.cli.main import main
from wertis.core.blas import single_threaded
from wertis.core.errors import RegionError
from wertis.core.geometry.mesh import Mesh, MeshFix, laid
from wertis.core.geometry.warp import FunctionWarp
from wertis.core.imaging.pyramid import Pyramid
from wertis.core.imaging.resample import warped
from wertis.core.shot import edits, meshes, store
from wertis.core.shot.document import PlateRef, Shot
from wertis.core.shot.meshes import MeshSettings
from wertis.core.track.mesh.reference import MeshReference
from wertis.core.track.mesh.run import track_mesh
from wertis.core.track.mesh.settings import TEMPLATE_UPDATE
from wertis.core.track.mesh.templates import TileTemplates

COUNT = 20
QUAD = np.array([[150.0, 80], [340, 84], [334, 236], [154, 230]])
MASK = cv2.fillPoly(np.zeros((SIZE[1], SIZE[0]), np.uint8), [QUAD.astype(np.int32)], 255)
MESH = Mesh(laid(MASK, 26))
INNER = np.array([cv2.pointPolygonTest(QUAD.astype(np.float32), (float(x), float(y)), True) > 10 for x, y in MESH.vertices])


def truth(frame: int) -> np.ndarray:
    """(V, 2) of the mesh's vertices on a frame, counted from 0."""
    return waved(MESH.vertices, REFERENCE + 0.5 * frame)


@cache
def plate() -> FramesPlate:
    """A wave through a wall whose picture turns into another one, all of it, little by little."""
    rng = np.random.default_rng(5)
    first, other = (texture(name, SIZE).astype(np.float32) for name in ("coffee", "astronaut"))
    frames = []
    for k in range(COUNT):
        part = k / (COUNT - 1)
        wall = (1 - part) * first + part * other
        seen = warped(wall, FunctionWarp(lambda p, k=k: waved(p, REFERENCE + 0.5 * k)), SIZE, cv2.INTER_CUBIC)
        frames.append(np.clip(seen + rng.normal(0, 1.5, seen.shape), 0, 255).astype(np.uint8))
    return FramesPlate(frames)


@cache
def unrenewed() -> dict[int, MeshFix]:
    """Compared with the reference frame alone."""
    return followed(renewed=False)


def followed(last: int = COUNT - 1, **how: object) -> dict[int, MeshFix]:
    with single_threaded():
        return dict(track_mesh(plate(), MESH, MASK, 0, range(1, last + 1), **how))  # type: ignore[arg-type]


def away(fix: MeshFix, frame: int) -> float:
    """Root mean square of the errors of the vertices well inside, pixels; infinite where it is lost."""
    return float(np.sqrt(((fix.places - truth(frame))[INNER] ** 2).sum(1).mean())) if fix.places is not None else np.inf


class TemplateTest(unittest.TestCase):
    def test_what_changes_for_good_is_followed_by_its_newer_looks_and_says_how_far_it_may_be_off(self) -> None:
        fixed, renewed = unrenewed(), followed()
        late = COUNT - 3
        self.assertLess(away(renewed[late], late), 0.75 * away(fixed[late], late))
        self.assertIsNone(fixed[COUNT - 1].places)
        self.assertRegex(fixed[COUNT - 1].reason, "of the region is seen|looks otherwise")
        honest = []
        for frame, fix in renewed.items():
            assert fix.places is not None, frame
            honest.append(np.linalg.norm(fix.places - truth(frame), axis=1)[INNER] <= 2 * fix.errors[INNER])
        self.assertGreater(np.mean(honest), 0.85)

    def test_a_further_reference_frame_brings_its_own_exactness(self) -> None:
        known = {frame: truth(frame) for frame in (10, COUNT - 1)}
        found = followed(renewed=False, further=tuple(known), known=known)
        for frame in range(1, COUNT):
            self.assertLess(away(found[frame], frame), 0.45, frame)

    def test_a_further_frame_that_tracking_comes_to_stands_in_from_there_on(self) -> None:
        last = COUNT - 5
        self.assertLess(away(followed(last, renewed=False, further=(7, 11))[last], last), 0.7 * away(unrenewed()[last], last))

    def test_where_the_surface_looks_as_it_did_the_reference_frame_counts(self) -> None:
        luma = [cv2.cvtColor(plate().pictures[k], cv2.COLOR_RGB2GRAY) for k in (0, 0)]
        templates = TileTemplates(MeshReference(Pyramid(luma[0]), MASK))
        fine = templates.tiles(0)
        added = templates.add(cv2.GaussianBlur(luma[1], (0, 0), 3), lambda p: p, fine.usable, np.full(len(fine.usable), 0.2))
        templates.use(added)
        self.assertTrue(templates.changed)
        self.assertTrue((templates.tiles(0).template_error[fine.usable] == 0.2).mean() > 0.9)
        self.assertFalse(np.array_equal(templates.tiles(1).light, MeshReference(Pyramid(luma[0]), MASK).tiles(1).light))
        np.testing.assert_array_equal(templates.tiles(0).usable, fine.usable)
        templates.choose(lambda tiles: np.where(tiles.template_error >= 0, 1.0, 0.0))  # everything fits, so the reference frame's look does
        self.assertFalse(templates.changed)
        np.testing.assert_array_equal(templates.tiles(0).light, fine.light)

    def test_a_slow_passer_brings_no_new_look(self) -> None:
        templates = TileTemplates(MeshReference(Pyramid(cv2.cvtColor(plate().pictures[0], cv2.COLOR_RGB2GRAY)), MASK))
        chosen = templates.tiles(0).usable
        rich = np.flatnonzero(templates.rich[chosen])
        few = rich[:int(0.5 * TEMPLATE_UPDATE.least_share * len(rich))]
        for step in range(12):
            alike = np.ones(len(chosen))
            alike[few] = 1 - 0.04 * step
            self.assertIsNone(templates.to_update(chosen, alike, alike > TEMPLATE_UPDATE.least_correlation))
        # the same all over the surface is a change for good; what is covered at once is none
        slow, sudden = TileTemplates(MeshReference(Pyramid(cv2.cvtColor(plate().pictures[0], cv2.COLOR_RGB2GRAY)), MASK)), templates
        found = [slow.to_update(chosen, np.full(len(chosen), 1 - 0.04 * step), np.ones(len(chosen), bool)) for step in range(12)]
        self.assertTrue(any(f is not None and f[rich].mean() > 0.9 for f in found))
        self.assertIsNone(sudden.to_update(chosen, np.full(len(chosen), 0.6), np.ones(len(chosen), bool)))


class FurtherFrameEditTest(unittest.TestCase):
    def test_frames_that_cannot_stand_in_are_refused_with_what_to_do(self) -> None:
        made = Shot(plate=PlateRef(path="/nowhere/wave", first=0, last=COUNT - 1, size=SIZE), range=(0, COUNT - 1))
        made, track = edits.add_track(made, QUAD, 0, "Sail")
        made = edits.set_settings(made, track.id, MeshSettings())
        with self.assertRaisesRegex(RegionError, "the reference frame itself"):
            meshes.set_references(made, track.id, [0])
        with self.assertRaisesRegex(RegionError, "not in the range 0 to 19"):
            meshes.set_references(made, track.id, [40])
        changed = meshes.set_references(made, track.id, [9, 4, 9], False)
        self.assertEqual((meshes.mesh_settings(changed.tracks[0]).further, meshes.mesh_settings(changed.tracks[0]).renewed), ((4, 9), False))


class FurtherFrameCommandTest(unittest.TestCase):
    def test_frames_are_named_on_the_command_line_and_kept_in_the_shot(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for k in range(6):
                cv2.imwrite(str(folder / f"f.{k:04d}.png"), plate().pictures[3 * k][..., ::-1])
            shown = [0, 20]
            (folder / "in.csv").write_text("id,x,y\n" + "".join(f"{k},{MESH.vertices[k][0]},{MESH.vertices[k][1]}\n" for k in shown))
            (folder / "pegs.csv").write_text("frame,id,x,y\n" + "".join(f"4,{k},{truth(12)[k][0]},{truth(12)[k][1]}\n" for k in shown))
            call = ["track", name, "--start", "0", "--region", " ".join(f"{x},{y}" for x, y in QUAD), "--model", "mesh", "--quiet", "--points",
                    str(folder / "in.csv"), "--pegs", str(folder / "pegs.csv"), "--save", str(folder / "sail.wertis")]
            main([*call, "--further", "4"])
            shot = store.load(folder / "sail.wertis")
            self.assertEqual(meshes.mesh_settings(shot.tracks[0]).further, (4,))
            at = meshes.vertices_on(shot.tracks[0], 4)
            assert at is not None
            np.testing.assert_allclose(at[1], truth(12)[20], atol=1e-3)
            for wrong, words in (("4,x", "give frame numbers"), ("0", "the reference frame itself"), ("99", "not in the range")):
                with patch("sys.stderr") as stderr:
                    self.assertNotEqual(main([*call, "--further", wrong]), 0)
                self.assertIn(words, "".join(str(c.args[0]) for c in stderr.write.call_args_list))


if __name__ == "__main__":
    unittest.main()
