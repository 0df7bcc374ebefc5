"""Artwork finished before it is laid: saturation, black or white keyed out, its edge moved and softened. Premultiplied RGBA float32."""

import cv2
import numpy as np

from wertis.core.plate.colour import CODED, converted
from wertis.core.shot.artwork import PLAIN, Finish

_WEIGHTS = np.array([0.2126, 0.7152, 0.0722], np.float32)  # ITU-R BT.709, luminance of red, green and blue
_LEAST = np.float32(1e-6)


def finished(picture: np.ndarray, space: str, finish: Finish) -> np.ndarray:
    """A picture (h, w, 4) in a colour space with a finish."""
    if finish == PLAIN:
        return picture
    alpha = picture[..., 3:]
    colour = picture[..., :3] / np.maximum(alpha, _LEAST)
    if finish.keyed != "none":
        coded = converted(np.ascontiguousarray(colour), space, CODED) @ _WEIGHTS
        alpha = alpha * keyed_alpha(coded, finish)[..., None]
    if finish.saturation != 1:
        grey = (colour @ _WEIGHTS)[..., None]
        colour = np.maximum(grey + np.float32(finish.saturation) * (colour - grey), 0)
    if finish.choke or finish.feather:
        before = alpha
        alpha = edged(alpha[..., 0], finish.choke, finish.feather)[..., None]
        if finish.choke < 0:
            colour = _spread(colour, before, -finish.choke)
    return np.concatenate([colour * alpha, alpha], axis=-1).astype(np.float32)


def keyed_alpha(brightness: np.ndarray, finish: Finish) -> np.ndarray:
    """What a picture's alpha is multiplied by where its brightness, coded for the eye, is (h, w)."""
    if finish.keyed == "brightness":
        return np.clip(brightness, 0, 1)
    away = brightness if finish.keyed == "black" else 1 - brightness
    return np.clip((away - np.float32(finish.threshold)) / np.float32(max(finish.soft, 1e-3)), 0, 1)


def edged(alpha: np.ndarray, choke: float, feather: float) -> np.ndarray:
    """An alpha (h, w) whose edge is moved inward by `choke` pixels (outward when negative) and then fades to nothing inward over `feather` pixels.

    The picture's own border counts as an edge.
    """
    room = int(np.ceil(abs(choke) + feather)) + 2
    padded = cv2.copyMakeBorder(np.ascontiguousarray(alpha), room, room, room, room, cv2.BORDER_CONSTANT, value=0.0)
    padded = _moved(padded, choke + feather / 2)
    if feather:
        padded = cv2.GaussianBlur(padded, (0, 0), feather / 4)
    return np.asarray(padded[room:-room, room:-room])


def _moved(alpha: np.ndarray, by: float) -> np.ndarray:
    """An alpha eroded by `by` pixels, or dilated; between whole radii, a mixture of both."""
    low, part = divmod(abs(by), 1)
    change = cv2.erode if by > 0 else cv2.dilate

    def at(radius: int) -> np.ndarray:
        if not radius:
            return alpha
        return np.asarray(change(alpha, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))))

    return at(int(low)) if part < 1e-3 else (1 - np.float32(part)) * at(int(low)) + np.float32(part) * at(int(low) + 1)


def _spread(colour: np.ndarray, alpha: np.ndarray, reach: float) -> np.ndarray:
    """Colours that reach beyond the alpha they belong to."""
    wide = max(reach, 1.0)
    mean = cv2.GaussianBlur(colour * alpha, (0, 0), wide) / np.maximum(cv2.GaussianBlur(alpha, (0, 0), wide)[..., None], _LEAST)
    return np.where(alpha > 0.5, colour, mean)
