"""Invented graphics to place on the crate."""

import tempfile
from pathlib import Path

import cv2
import numpy as np

from wertis.core.exchange.pictures import write_picture
from wertis.demo.textures import centred


def night_market(size: tuple[int, int] = (1200, 900)) -> np.ndarray:
    """A poster for the Brindle Quay night market, (h, w, 3) uint8."""
    w, h = size
    y = np.linspace(0, 1, h, dtype=np.float32)[:, None, None]
    page = (np.array([20, 34, 66]) * (1 - y) + np.array([44, 96, 120]) * y) * np.ones((h, w, 1), np.float32)
    page = np.ascontiguousarray(page.astype(np.uint8))
    cv2.circle(page, (int(w * .78), int(h * .25)), int(h * .12), (250, 232, 186), -1, cv2.LINE_AA)
    cv2.circle(page, (int(w * .75), int(h * .235)), int(h * .11), (26, 48, 80), -1, cv2.LINE_AA)
    cord = [(int(x), int(h * .10 + 0.00022 * (x - w / 2) ** 2 * -1 + h * .09)) for x in np.linspace(0, w, 60)]
    cv2.polylines(page, [np.array(cord)], False, (220, 206, 170), 3, cv2.LINE_AA)
    for k, at in enumerate(cord[3::9]):
        c = [(240, 110, 70), (246, 190, 80), (120, 200, 170)][k % 3]
        cv2.ellipse(page, (at[0], at[1] + 44), (26, 34), 0, 0, 360, c, -1, cv2.LINE_AA)
        cv2.ellipse(page, (at[0], at[1] + 44), (10, 34), 0, 0, 360, tuple(int(v * 0.8) for v in c), 2, cv2.LINE_AA)
        cv2.rectangle(page, (at[0] - 9, at[1] + 4), (at[0] + 9, at[1] + 12), (60, 44, 40), -1)
    for k in range(5):
        xs = np.arange(0, w + 40, 8)
        top = h * (.74 + .06 * k) + 14 * np.sin(xs / 70 + k * 1.3)
        shape = np.concatenate([np.column_stack([xs, top]), [[w, h], [0, h]]]).astype(np.int32)
        cv2.fillPoly(page, [shape], (int(30 + 8 * k), int(110 - 14 * k), int(128 - 14 * k)), cv2.LINE_AA)
    centred(page, "NIGHT MARKET", int(h * .50), int(h * .145), (252, 240, 214), 900)
    centred(page, "ON BRINDLE QUAY", int(h * .615), int(h * .075), (246, 190, 80), 700)
    centred(page, "lanterns  ·  smoked fish  ·  brass band", int(h * .69), int(h * .048), (230, 236, 232), 500)
    centred(page, "EVERY LOW TIDE", int(h * .93), int(h * .07), (252, 240, 214), 800)
    cv2.rectangle(page, (14, 14), (w - 15, h - 15), (252, 240, 214), 5, cv2.LINE_AA)
    return page


def stencil(size: tuple[int, int] = (900, 500)) -> np.ndarray:
    """A stencilled mark with alpha, (h, w, 4) uint8 premultiplied: for multiply on the wood."""
    w, h = size
    mark = np.zeros((h, w, 3), np.uint8)
    centred(mark, "HOLD 3", int(h * .5), int(h * .36), (255, 255, 255), 900)
    centred(mark, "THIS SIDE TO THE WIND", int(h * .78), int(h * .13), (255, 255, 255), 800)
    cv2.rectangle(mark, (20, 20), (w - 21, h - 21), (255, 255, 255), 12, cv2.LINE_AA)
    for x in range(100, w, 190):
        mark[:, x:x + 9] = 0
    alpha = mark[..., :1]
    ink = np.array([34, 46, 58], np.float32) / 255
    return np.concatenate([(alpha * ink).astype(np.uint8), alpha], 2)


def emblem(size: tuple[int, int] = (720, 720)) -> np.ndarray:
    """A painted emblem with alpha, (h, w, 4) uint8 premultiplied: for multiply on the sail."""
    w, h = size
    mark: np.ndarray = np.zeros((h, w), np.uint8)
    centre = (w // 2, h // 2)
    cv2.circle(mark, centre, int(w * .46), 255, int(w * .035), cv2.LINE_AA)
    cv2.circle(mark, centre, int(w * .40), 255, int(w * .012), cv2.LINE_AA)
    x = np.arange(int(w * .16), int(w * .84))
    for k, y in enumerate((.60, .68, .76)):
        half = np.sqrt(np.maximum((w * .37) ** 2 - (x - w / 2) ** 2, 0))
        wave = h * y + h * .022 * np.sin(x / w * 26 + k)
        inside = np.abs(wave - h / 2) < half
        line = np.column_stack([x[inside], wave[inside]]).round().astype(np.int32)
        cv2.polylines(mark, [line[:, None]], False, 255, int(w * .022), cv2.LINE_AA)
    hull = np.array([[.30, .50], [.70, .50], [.63, .56], [.37, .56]]) * size
    jib = np.array([[.49, .17], [.49, .47], [.31, .47]]) * size
    main = np.array([[.52, .20], [.52, .47], [.68, .47]]) * size
    for shape in (hull, jib, main):
        cv2.fillPoly(mark, [np.round(shape * 16).astype(np.int32)], 255, cv2.LINE_AA, 4)
    ink = np.array([150, 40, 34], np.float32) / 255
    alpha = mark[..., None]
    return np.concatenate([(alpha * ink).astype(np.uint8), alpha], 2)


def tide_table(size: tuple[int, int] = (900, 600)) -> np.ndarray:
    """A printed notice with the day's tides, (h, w, 3) uint8."""
    w, h = size
    page = np.full((h, w, 3), (236, 226, 196), np.uint8)
    cv2.rectangle(page, (0, 0), (w, int(h * .27)), (40, 74, 92), -1)
    centred(page, "TIDES TODAY", int(h * .19), int(h * .15), (240, 232, 206), 900)
    for k, (when, words) in enumerate((("04:12", "low"), ("10:25", "high"), ("16:40", "low"), ("22:58", "high"))):
        centred(page, f"{when}   {words}", int(h * (.44 + .15 * k)), int(h * .10), (44, 52, 60), 700)
    cv2.rectangle(page, (12, 12), (w - 13, h - 13), (40, 74, 92), 6, cv2.LINE_AA)
    return page


def write_all(folder: Path) -> None:
    """Write every graphic as PNG; what is there already stays as it is, since an open shot may use it."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=folder) as beside:
        for name, picture in (("night_market", night_market()), ("stencil", stencil()), ("emblem", emblem()), ("tide_table", tide_table())):
            path, made = folder / f"{name}.png", Path(beside) / f"{name}.png"
            write_picture(made, picture)
            if not path.exists() or path.read_bytes() != made.read_bytes():
                made.replace(path)
