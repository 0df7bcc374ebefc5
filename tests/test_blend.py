"""Blend modes against W3C Compositing and Blending Level 1 and against Pillow."""

import unittest

import numpy as np
from PIL import Image, ImageChops

from wertis.core.comp import blend


def w3c(mode: str, cb: float, cs: float) -> float:
    """B(cb, cs) of the specification, section 10.1, written out for one channel."""
    def hard_light(b: float, s: float) -> float:
        return b * 2 * s if s <= 0.5 else b + (2 * s - 1) - b * (2 * s - 1)

    def soft_light() -> float:
        d = ((16 * cb - 12) * cb + 4) * cb if cb <= 0.25 else cb ** 0.5
        return cb - (1 - 2 * cs) * cb * (1 - cb) if cs <= 0.5 else cb + (2 * cs - 1) * (d - cb)

    return {"normal": lambda: cs, "multiply": lambda: cb * cs, "screen": lambda: cb + cs - cb * cs, "overlay": lambda: hard_light(cs, cb),
            "darken": lambda: min(cb, cs), "lighten": lambda: max(cb, cs), "hard-light": lambda: hard_light(cb, cs), "soft-light": soft_light,
            "color-dodge": lambda: 0 if cb == 0 else 1 if cs == 1 else min(1, cb / (1 - cs)),
            "color-burn": lambda: 1 if cb == 1 else 0 if cs == 0 else 1 - min(1, (1 - cb) / cs),
            "difference": lambda: abs(cb - cs), "exclusion": lambda: cb + cs - 2 * cb * cs}[mode]()


ONE_CHANNEL = [m for m in blend.MODES if m not in ("hue", "saturation", "color", "luminosity")]


def w3c_of_three(mode: str, cb: list[float], cs: list[float]) -> list[float]:
    """B(cb, cs) of the specification, section 10.2, its pseudocode followed line by line."""
    def lum(c: list[float]) -> float:
        return 0.3 * c[0] + 0.59 * c[1] + 0.11 * c[2]

    def clip_color(c: list[float]) -> list[float]:
        n, x, grey = min(c), max(c), lum(c)
        if n < 0:
            c = [grey + (v - grey) * grey / (grey - n) for v in c]
        if x > 1:
            c = [grey + (v - grey) * (1 - grey) / (x - grey) for v in c]
        return c

    def set_lum(c: list[float], target: float) -> list[float]:
        d = target - lum(c)
        return clip_color([v + d for v in c])

    def sat(c: list[float]) -> float:
        return max(c) - min(c)

    def set_sat(c: list[float], s: float) -> list[float]:
        low, mid, high = sorted(range(3), key=lambda k: c[k])
        out = [0.0, 0.0, 0.0]
        if c[high] > c[low]:
            out[mid] = (c[mid] - c[low]) * s / (c[high] - c[low])
            out[high] = s
        return out

    return {"hue": lambda: set_lum(set_sat(cs, sat(cb)), lum(cb)), "saturation": lambda: set_lum(set_sat(cb, sat(cs)), lum(cb)),
            "color": lambda: set_lum(cs, lum(cb)), "luminosity": lambda: set_lum(cb, lum(cs))}[mode]()


class BlendTest(unittest.TestCase):
    def test_formulas_over_an_opaque_backdrop(self) -> None:
        for mode in ONE_CHANNEL:
            for cb in (0.0, 0.2, 0.5, 0.7, 1.0):
                for cs in (0.0, 0.3, 0.5, 0.9, 1.0):
                    for alpha in (0.25, 1.0):
                        back = np.full((1, 1, 3), cb, np.float32)
                        source = np.array([[[cs * alpha] * 3 + [alpha]]], np.float32)
                        expected = (1 - alpha) * cb + alpha * w3c(mode, cb, cs)  # section 5.8.1 with an opaque backdrop
                        np.testing.assert_allclose(blend.over(back, source, mode), expected, atol=1e-6, err_msg=f"{mode} {cb} {cs} {alpha}")

    def test_modes_of_three_channels(self) -> None:
        rng = np.random.default_rng(1)
        corners = [[0.0, 0.0, 0.0], [1.0, 1.0, 1.0], [1.0, 0.0, 0.0], [0.2, 0.2, 0.9], [0.5, 0.5, 0.5]]
        colours = [*corners, *rng.uniform(0, 1, (12, 3)).tolist()]
        for mode in ("hue", "saturation", "color", "luminosity"):
            for cb in colours:
                for cs in colours:
                    for alpha in (0.4, 1.0):
                        source = np.array([[[*(v * alpha for v in cs), alpha]]])
                        expected = [(1 - alpha) * b + alpha * v for b, v in zip(cb, w3c_of_three(mode, cb, cs), strict=True)]
                        np.testing.assert_allclose(blend.over(np.array([[cb]]), source, mode)[0, 0], expected, atol=1e-6, err_msg=f"{mode} {cb} {cs}")

    def test_plus_lighter_adds_up_to_white(self) -> None:
        """Section 9.1.5: co = min(1, cs as + cb ab), ao = min(1, as + ab)."""
        back, source = np.array([[[0.3, 0.1, 0.0, 0.5]]]), np.array([[[0.2, 0.4, 0.6, 0.7]]])
        np.testing.assert_allclose(blend.over(back, source, blend.PLUS_LIGHTER)[0, 0], [0.5, 0.5, 0.6, 1.0], atol=1e-7)
        np.testing.assert_allclose(blend.over(back[..., :3], 3 * source, blend.PLUS_LIGHTER)[0, 0], [0.9, 1.0, 1.0], atol=1e-7)

    def test_what_is_brighter_than_white_stays_so(self) -> None:
        """Common practice with floats: no mode makes a highlight darker than white would become, or not a number."""
        back = np.array([[[4.0, 2.0, 1.5]]])
        for mode in (*blend.MODES, blend.PLUS_LIGHTER):
            for cs in (0.0, 0.4, 1.0):
                found = blend.over(back, np.array([[[cs, cs, cs, 1.0]]]), mode)
                white = blend.over(np.ones((1, 1, 3)), np.array([[[cs, cs, cs, 1.0]]]), mode)
                self.assertTrue(np.isfinite(found).all(), mode)
                self.assertTrue((found >= white - 1e-9).all(), (mode, cs))

    def test_formula_over_a_transparent_backdrop(self) -> None:
        # section 9.1.4: co = cs as (1 - ab) + cb ab (1 - as) + as ab B(cb, cs); ao = as + ab (1 - as)
        cb, ab, cs, a = 0.4, 0.5, 0.8, 0.6
        back = np.array([[[cb * ab] * 3 + [ab]]], np.float32)
        source = np.array([[[cs * a] * 3 + [a]]], np.float32)
        for mode in ONE_CHANNEL:
            colour = cs * a * (1 - ab) + cb * ab * (1 - a) + a * ab * w3c(mode, cb, cs)
            np.testing.assert_allclose(blend.over(back, source, mode)[0, 0], [colour] * 3 + [a + ab * (1 - a)], atol=1e-6, err_msg=mode)

    def test_same_as_pillow(self) -> None:
        rng = np.random.default_rng(1)
        a, b = (rng.integers(0, 256, (16, 16, 3), dtype=np.uint8) for _ in range(2))
        pa, pb = Image.fromarray(a), Image.fromarray(b)
        source = np.dstack([b / 255, np.ones((16, 16))]).astype(np.float32)
        for mode, theirs in (("multiply", ImageChops.multiply(pa, pb)), ("screen", ImageChops.screen(pa, pb)), ("overlay", ImageChops.overlay(pa, pb)),
                             ("darken", ImageChops.darker(pa, pb)), ("lighten", ImageChops.lighter(pa, pb)),
                             ("difference", ImageChops.difference(pa, pb)), ("hard-light", ImageChops.hard_light(pa, pb))):
            ours = blend.over((a / 255).astype(np.float32), source, mode) * 255
            self.assertLessEqual(np.abs(ours - np.asarray(theirs, np.float64)).max(), 2.0, mode)

    def test_opacity_scales_alpha(self) -> None:
        back = np.full((1, 1, 3), 0.2, np.float32)
        source = np.array([[[1, 1, 1, 1]]], np.float32)
        np.testing.assert_allclose(blend.over(back, source, "normal", 0.25), 0.4, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
