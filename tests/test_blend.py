"""Blend modes against W3C Compositing and Blending Level 1 and against Pillow."""

import unittest

import numpy as np
from PIL import Image, ImageChops

from wertis.core.comp import blend


def w3c(mode: str, cb: float, cs: float) -> float:
    """B(cb, cs) of the specification, section 10.1, written out for one channel."""
    def hard_light(b: float, s: float) -> float:
        return b * 2 * s if s <= 0.5 else b + (2 * s - 1) - b * (2 * s - 1)

    return {"normal": cs, "multiply": cb * cs, "screen": cb + cs - cb * cs, "overlay": hard_light(cs, cb)}[mode]


class BlendTest(unittest.TestCase):
    def test_formulas_over_an_opaque_backdrop(self) -> None:
        for mode in blend.MODES:
            for cb in (0.0, 0.2, 0.5, 0.7, 1.0):
                for cs in (0.0, 0.3, 0.5, 0.9, 1.0):
                    for alpha in (0.25, 1.0):
                        back = np.full((1, 1, 3), cb, np.float32)
                        source = np.array([[[cs * alpha] * 3 + [alpha]]], np.float32)
                        expected = (1 - alpha) * cb + alpha * w3c(mode, cb, cs)  # section 5.8.1 with an opaque backdrop
                        np.testing.assert_allclose(blend.over(back, source, mode), expected, atol=1e-6, err_msg=f"{mode} {cb} {cs} {alpha}")

    def test_formula_over_a_transparent_backdrop(self) -> None:
        # section 9.1.4: co = cs as (1 - ab) + cb ab (1 - as) + as ab B(cb, cs); ao = as + ab (1 - as)
        cb, ab, cs, a = 0.4, 0.5, 0.8, 0.6
        back = np.array([[[cb * ab] * 3 + [ab]]], np.float32)
        source = np.array([[[cs * a] * 3 + [a]]], np.float32)
        for mode in blend.MODES:
            colour = cs * a * (1 - ab) + cb * ab * (1 - a) + a * ab * w3c(mode, cb, cs)
            np.testing.assert_allclose(blend.over(back, source, mode)[0, 0], [colour] * 3 + [a + ab * (1 - a)], atol=1e-6, err_msg=mode)

    def test_same_as_pillow(self) -> None:
        rng = np.random.default_rng(1)
        a, b = (rng.integers(0, 256, (16, 16, 3), dtype=np.uint8) for _ in range(2))
        pa, pb = Image.fromarray(a), Image.fromarray(b)
        source = np.dstack([b / 255, np.ones((16, 16))]).astype(np.float32)
        for mode, theirs in (("multiply", ImageChops.multiply(pa, pb)), ("screen", ImageChops.screen(pa, pb)), ("overlay", ImageChops.overlay(pa, pb))):
            ours = blend.over((a / 255).astype(np.float32), source, mode) * 255
            self.assertLessEqual(np.abs(ours - np.asarray(theirs, np.float64)).max(), 2.0, mode)

    def test_opacity_scales_alpha(self) -> None:
        back = np.full((1, 1, 3), 0.2, np.float32)
        source = np.array([[[1, 1, 1, 1]]], np.float32)
        np.testing.assert_allclose(blend.over(back, source, "normal", 0.25), 0.4, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
