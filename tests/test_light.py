"""In what light graphics are laid on, layers and alpha of a plate's files, and pixels that are not square."""

import unittest
from pathlib import Path

import av
import numpy as np
import OpenImageIO as oiio

from tests.test_deliver import command
from tests.test_plate import Folder
from tests.test_window import WindowCase
from wertis.core.comp.picture import Compositor
from wertis.core.errors import PlateError
from wertis.core.exchange import corner_pin_json
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry.motion import Fix
from wertis.core.jobs.export import corner_pin, export_corner_pin
from wertis.core.jobs.render import render
from wertis.core.plate import open_plate
from wertis.core.plate.sequence import read_picture
from wertis.core.shot import edits, items, store
from wertis.core.shot.artwork import Artwork
from wertis.core.shot.document import Placement, Shot
from wertis.core.shot.placing import surface_proportions

HALF_CODED = 0.2140  # linear light of the code value 0.5, from the curve of IEC 61966-2-1: ((0.5 + 0.055) / 1.055) ** 2.4
HALF_LINEAR = 0.7354  # the code value of half the light: 1.055 * 0.5 ** (1 / 2.4) - 0.055
WHOLE = np.array([[4.0, 4], [44, 4], [44, 28], [4, 28]])


def coded(linear: np.ndarray) -> np.ndarray:
    """IEC 61966-2-1, written out here once more."""
    return np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * np.maximum(linear, 1e-9) ** (1 / 2.4) - 0.055)


def written(path: Path, pixels: np.ndarray, names: list[str] | None = None, aspect: float = 1.0, part: str = "") -> oiio.ImageOutput:
    """A picture written by OpenImageIO alone."""
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], str(pixels.dtype).replace("float16", "half").replace("float32", "float"))
    if names:
        spec.channelnames = names
    if aspect != 1:
        spec.attribute("PixelAspectRatio", aspect)
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec), out.geterror()
    out.write_image(pixels)
    out.close()
    return out


class LightTest(Folder):
    def shot(self, plate: np.ndarray, suffix: str, artwork: Artwork, **placed: object) -> tuple[Shot, np.ndarray]:
        """A shot of one frame with artwork on it that does not move, and the plate."""
        folder = self.folder / f"plate{suffix}"
        folder.mkdir(exist_ok=True)
        write_picture(folder / f"a.0001{suffix}", plate)
        opened = open_plate(folder)
        shot, track = edits.add_track(edits.new_shot(opened, str(folder)), WHOLE, 1)
        shot = edits.set_tracked(shot, track.id, {1: Fix(np.eye(3), 0.02, 1.0)})
        placement = Placement(on=track.id, frame=1, quad=edits.as_points(WHOLE), artwork=artwork, fit="stretch", **placed)
        return items.add_item(shot, placement), opened.read(1)

    def white(self) -> Artwork:
        write_picture(self.folder / "white.png", np.full((8, 8, 3), 255, np.uint8))
        return Artwork(kind="picture", path=str(self.folder / "white.png"))

    def middle(self, shot: Shot, plate: np.ndarray) -> float:
        return float(Compositor().comp(shot, plate, 1)[16, 24, 0])

    def test_half_a_white_on_black_by_the_published_curve(self) -> None:
        shot, plate = self.shot(np.zeros((32, 48, 3), np.uint8), ".png", self.white(), opacity=0.5)
        for mixing, level in (("plate", 0.5), ("display", 0.5), ("linear", HALF_LINEAR)):
            self.assertAlmostEqual(self.middle(shot.but(mixing=mixing), plate) / 255, level, delta=1.01 / 255, msg=mixing)
        shot, plate = self.shot(np.zeros((32, 48, 3), np.float16), ".exr", self.white(), opacity=0.5)
        for mixing, level in (("plate", 0.5), ("linear", 0.5), ("display", HALF_CODED)):
            self.assertAlmostEqual(self.middle(shot.but(mixing=mixing), plate), level, delta=0.002, msg=mixing)

    def test_artwork_comes_to_the_plate_s_light(self) -> None:
        grey = np.full((8, 8, 3), 188, np.uint8)  # half the light
        write_picture(self.folder / "grey.png", grey)
        shot, plate = self.shot(np.zeros((32, 48, 3), np.float16), ".exr", Artwork(kind="picture", path=str(self.folder / "grey.png")))
        self.assertAlmostEqual(self.middle(shot, plate), 0.503, delta=0.003)
        write_picture(self.folder / "light.exr", np.full((8, 8, 3), 0.5, np.float32))
        shot, plate = self.shot(np.zeros((32, 48, 3), np.uint8), ".png", Artwork(kind="picture", path=str(self.folder / "light.exr")))
        self.assertAlmostEqual(self.middle(shot, plate), 188, delta=1)

    def test_what_no_graphic_touches_keeps_every_bit_in_any_light(self) -> None:
        for suffix, noise in ((".png", self.rng.integers(0, 256, (32, 48, 3), dtype=np.uint8)),
                              (".exr", self.rng.normal(0.5, 1, (32, 48, 3)).astype(np.float16))):
            shot, plate = self.shot(noise, suffix, self.white())
            for mixing in ("plate", "linear", "display"):
                made = Compositor().comp(shot.but(mixing=mixing), plate, 1)
                np.testing.assert_array_equal(made[:3], noise[:3])
                np.testing.assert_array_equal(made[:, 46:], noise[:, 46:])
                self.assertTrue((made[10:20, 20:30] != noise[10:20, 20:30]).any())

    def test_another_kind_of_number_gets_its_own_light(self) -> None:
        """Floats are linear and whole numbers coded: common practice. The picture shown stays the same."""
        linear = np.linspace(0, 1, 48, dtype=np.float32)[None, :, None].repeat(32, 0).repeat(3, 2)
        shot, _ = self.shot(linear, ".exr", self.white())
        shot = shot.but(tracks=(), items=())
        list(render(shot, open_plate(shot.plate.path), str(self.folder / "o.####.png"), [1]))
        np.testing.assert_allclose(read_picture(self.folder / "o.0001.png") / 65535, coded(linear), atol=1e-3)
        list(render(shot, open_plate(shot.plate.path), str(self.folder / "o.mkv"), [1]))
        np.testing.assert_allclose(open_plate(self.folder / "o.mkv").read(1) / 255, coded(linear), atol=1 / 255)
        values = (coded(linear) * 255 + 0.5).astype(np.uint8)
        shot, _ = self.shot(values, ".png", self.white())
        list(render(shot.but(tracks=(), items=()), open_plate(shot.plate.path), str(self.folder / "o.####.exr"), [1]))
        np.testing.assert_allclose(coded(read_picture(self.folder / "o.0001.exr").astype(float)), values / 255, atol=2e-3)

    def test_an_unknown_colour_space_is_said(self) -> None:
        shot, plate = self.shot(np.zeros((32, 48, 3), np.uint8), ".png", self.white())
        shot = shot.but(plate=shot.plate.but(colour="no such space"), mixing="linear")
        with self.assertRaisesRegex(PlateError, "no such space.*choose another colour space"):
            Compositor().comp(shot, plate, 1)


class LayersTest(Folder):
    NAMES = ["R", "G", "B", "A", "diffuse.R", "diffuse.G", "diffuse.B", "motion.U", "motion.V", "Z"]

    def setUp(self) -> None:
        super().setUp()
        self.values = self.rng.random((20, 30, 10)).astype(np.float16)
        self.plate = self.folder / "layered"
        self.plate.mkdir()
        written(self.plate / "a.0001.exr", self.values, self.NAMES, aspect=2.0)

    def test_layers_are_listed_and_read_by_name(self) -> None:
        plate = open_plate(self.plate)
        self.assertEqual(plate.layers[0], "")
        self.assertEqual(set(plate.layers), {"", "diffuse", "motion", "Z"})
        self.assertEqual(plate.aspect, 2.0)
        for layer, first, count in (("", 0, 4), ("diffuse", 4, 3), ("Z", 9, 1)):
            np.testing.assert_array_equal(open_plate(self.plate, layer).read(1), self.values[..., first:first + count])
        motion = open_plate(self.plate, "motion").read(1)
        np.testing.assert_array_equal(motion[..., :2], self.values[..., 7:9])
        self.assertEqual(motion.shape[2], 3, "two numbers are not grey with alpha")
        with self.assertRaisesRegex(PlateError, "no layer named 'glow'; it has: .*diffuse"):
            open_plate(self.plate, "glow")

    def test_depth_is_never_taken_for_alpha(self) -> None:
        folder = self.folder / "depth"
        folder.mkdir()
        written(folder / "a.0001.exr", self.values[..., :4], ["R", "G", "B", "Z"])
        self.assertEqual(open_plate(folder).read(1).shape[2], 3)

    def test_half_colours_beside_a_float_depth_stay_half(self) -> None:
        folder = self.folder / "mixed"
        folder.mkdir()
        spec = oiio.ImageSpec(30, 20, 4, "float")
        spec.channelnames = ["R", "G", "B", "Z"]
        spec.channelformats = ["half", "half", "half", "float"]
        out = oiio.ImageOutput.create(str(folder / "a.0001.exr"))
        self.assertTrue(out.open(str(folder / "a.0001.exr"), spec), out.geterror())
        out.write_image(self.values[..., :4].astype(np.float32))
        out.close()
        plate = open_plate(folder)
        self.assertEqual((plate.read(1).dtype, open_plate(folder, "Z").read(1).dtype), (np.float16, np.float32))
        np.testing.assert_array_equal(plate.read(1), self.values[..., :3])

    def test_parts_of_a_file_are_layers_too(self) -> None:
        folder = self.folder / "parts"
        folder.mkdir()
        specs = []
        for name, channels in (("beauty", 4), ("normals", 3)):
            spec = oiio.ImageSpec(30, 20, channels, "half")
            spec.attribute("oiio:subimagename", name)
            specs.append(spec)
        specs[1].channelnames = ["X", "Y", "Z"]
        file = str(folder / "a.0001.exr")
        out = oiio.ImageOutput.create(file)
        self.assertTrue(out.open(file, tuple(specs)))
        out.write_image(np.ascontiguousarray(self.values[..., :4]))
        out.open(file, specs[1], "AppendSubimage")
        out.write_image(np.ascontiguousarray(self.values[..., 4:7]))
        out.close()
        self.assertEqual(open_plate(folder).layers, ("", "normals"))
        np.testing.assert_array_equal(open_plate(folder, "normals").read(1), self.values[..., 4:7])
        np.testing.assert_array_equal(open_plate(folder).read(1), self.values[..., :4])

    def test_alpha_as_the_person_says(self) -> None:
        straight = open_plate(self.plate, "", "straight").read(1).astype(float)
        np.testing.assert_allclose(straight[..., :3], self.values[..., :3].astype(float) * self.values[..., 3:4], atol=1e-3)
        np.testing.assert_array_equal(open_plate(self.plate, "", "ignore").read(1), self.values[..., :3])

    def test_a_layer_is_rendered_as_a_picture_and_the_whole_file_copied_otherwise(self) -> None:
        for layer, channels in (("", 10), ("diffuse", 3)):
            plate = open_plate(self.plate, layer)
            shot = edits.new_shot(plate, str(self.plate))
            self.assertEqual((shot.plate.layer, shot.plate.aspect), (layer, 2.0))
            list(render(shot, plate, str(self.folder / f"o{layer}.####.exr"), [1]))
            source = oiio.ImageInput.open(str(self.folder / f"o{layer}.0001.exr"))
            self.assertEqual((source.spec().nchannels, source.spec().get_float_attribute("PixelAspectRatio")), (channels, 2.0))
            source.close()
        np.testing.assert_array_equal(read_picture(self.folder / "odiffuse.0001.exr"), self.values[..., 4:7])

    def test_the_command_line_tracks_a_layer(self) -> None:
        words = ["track", str(self.plate), "--start", "1", "--region", "1,1 29,1 29,19 1,19", "--out", str(self.folder / "o.csv"), "--layer"]
        code, _, said = command(*words, "glow")
        self.assertEqual(code, 1)
        self.assertIn("no layer named 'glow'", said)
        code, _, said = command(*words, "diffuse")
        self.assertEqual(code, 0, said)


class AspectTest(Folder):
    def test_a_movie_and_the_corner_pin_say_the_aspect(self) -> None:
        folder = self.folder / "plate"
        folder.mkdir()
        for frame in (1, 2):
            written(folder / f"a.{frame:04d}.tif", self.rng.integers(0, 256, (32, 48, 3), dtype=np.uint8), aspect=1.5)
        plate = open_plate(folder)
        shot, track = edits.add_track(edits.new_shot(plate, str(folder)), WHOLE, 1)
        shot = edits.set_tracked(shot, track.id, {2: Fix(np.eye(3), 0.02, 1.0)})
        for name in ("o.mp4", "o.mov"):
            list(render(shot, plate, str(self.folder / name), [1, 2]))
            with av.open(str(self.folder / name)) as movie:
                self.assertEqual(float(movie.streams.video[0].sample_aspect_ratio), 1.5, name)
            self.assertEqual(open_plate(self.folder / name).aspect, 1.5)
        export_corner_pin(shot, shot.tracks[0], None, self.folder / "pin.json")
        self.assertEqual(corner_pin_json.read(self.folder / "pin.json").pixel_aspect, 1.5)
        self.assertEqual(corner_pin(shot, shot.tracks[0], None).corners[2][0], tuple(WHOLE[0]), "coordinates stay in pixels")

    def test_proportions_are_those_of_the_surface_and_not_of_its_pixels(self) -> None:
        """The same flat square, seen from the front and slanted, once in square pixels and once in pixels twice as wide."""
        for seen in (np.array([[100.0, 100], [300, 100], [300, 300], [100, 300]]), np.array([[120.0, 90], [300, 130], [300, 270], [120, 310]])):
            square = Placement(frame=1, quad=edits.as_points(seen))
            squeezed = Placement(frame=1, quad=edits.as_points(seen / [2, 1]))
            self.assertAlmostEqual(surface_proportions(squeezed, (200, 400), 2.0).ratio, surface_proportions(square, (400, 400)).ratio, places=6)


class PlatePageTest(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.layered = self.folder / "layered"
        self.layered.mkdir()
        values = np.random.default_rng(3).random((120, 200, 8)).astype(np.float16)
        for frame in (1, 2, 3):
            written(self.layered / f"a.{frame:04d}.exr", values, [*"RGBA", "diffuse.R", "diffuse.G", "diffuse.B", "Z"])
        self.window.session.open_any(self.layered)
        self.window.session.go_step("Plate")
        self.until(lambda: self.window.viewer.picture is not None)

    def choose(self, name: str, text: str) -> None:
        """As a hand chooses from the box of that name on the page."""
        from PySide6.QtWidgets import QComboBox
        box = next(b for b in self.window.findChildren(QComboBox) if b.accessibleName() == name)
        self.assertTrue(box.isEnabled(), name)
        index = box.findText(text)
        self.assertGreaterEqual(index, 0, f"{text} in {[box.itemText(i) for i in range(box.count())]}")
        box.setCurrentIndex(index)
        box.activated.emit(index)
        self.spin()

    def test_a_layer_is_chosen_shown_saved_and_undone(self) -> None:
        s = self.window.session
        s.go(2)
        self.until(lambda: self.window.viewer.picture is not None)
        before = self.window.viewer.picture.copy()
        self.choose("Layer of the files", "diffuse")
        self.assertEqual((s.plate.layer, s.shot.plate.layer, s.frame), ("diffuse", "diffuse", 2))
        self.until(lambda: self.window.viewer.picture is not None and (self.window.viewer.picture != before).any())
        s.save(self.folder / "s.wertis")
        self.assertEqual(store.load(self.folder / "s.wertis").plate.layer, "diffuse")
        s.history.undo()
        self.assertEqual((s.plate.layer, s.frame), ("", 2))
        self.until(lambda: (self.window.viewer.picture == before).all())
        s.history.redo()
        self.assertEqual(s.plate.layer, "diffuse")
        s.open_any(self.folder / "s.wertis")
        self.assertEqual(s.plate.layer, "diffuse")

    def test_alpha_and_light_are_choices_of_the_shot(self) -> None:
        s = self.window.session
        self.choose("How alpha is taken", "Left out")
        self.assertEqual(s.cache.get(1).shape[2], 3)
        self.choose("In what light graphics are laid on", "As a display shows it")
        self.assertEqual(s.shot.mixing, "display")
        s.history.undo()
        self.assertEqual(s.shot.mixing, "plate")

    def test_wide_pixels_are_shown_wide_and_a_click_finds_its_pixel(self) -> None:
        s, v = self.window.session, self.window.viewer
        s.history.do("Set the pixel aspect", s.shot.but(plate=s.shot.plate.but(aspect=2.0)))
        self.spin(0.1)
        (left, top), (right, bottom) = v.to_screen(np.array([[0.0, 0], [200, 120]]))
        self.assertAlmostEqual((right - left) / (bottom - top), 2 * 200 / 120, places=6)
        self.assertLessEqual(right, v.width() + 1)
        from PySide6.QtCore import QPointF
        x, y = v.to_screen(np.array([[37.0, 61.0]]))[0]
        np.testing.assert_allclose(v.to_picture(QPointF(x, y)), [37, 61], atol=1e-6)
        s.history.undo()
        self.spin(0.1)
        (left, top), (right, bottom) = v.to_screen(np.array([[0.0, 0], [200, 120]]))
        self.assertAlmostEqual((right - left) / (bottom - top), 200 / 120, places=6)


if __name__ == "__main__":
    unittest.main()
