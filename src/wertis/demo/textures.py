"""Procedural surfaces for the demo harbour: wood, stone, water, label; float32 RGB in linear light, 0..1."""

import itertools

import cv2
import numpy as np


def noise(rng: np.random.Generator, size: tuple[int, int], grain: tuple[float, float], octaves: int = 4) -> np.ndarray:
    """Smooth noise (h, w), mean 0, about -1..1; `size` is w, h and `grain` the first octave's cell in pixels across and down."""
    w, h = size
    total = np.zeros((h, w), np.float32)
    weight = 0.0
    for k in range(octaves):
        cells = (max(2, int(w / grain[0] * 2 ** k) + 2), max(2, int(h / grain[1] * 2 ** k) + 2))
        if cells[0] > w * 1.5 and cells[1] > h * 1.5:
            break
        layer = rng.standard_normal((min(cells[1], h), min(cells[0], w))).astype(np.float32)
        total += cv2.resize(layer, (w, h), interpolation=cv2.INTER_CUBIC) * 0.5 ** k
        weight += 0.5 ** k
    return total / weight


def linear(rgb: tuple[int, int, int]) -> np.ndarray:
    """An 8-bit display colour as linear light."""
    return (np.array(rgb, np.float32) / 255) ** np.float32(2.2)


def wood(rng: np.random.Generator, size: tuple[int, int], planks: int, colour: tuple[int, int, int] = (176, 132, 86),
         across: bool = True) -> np.ndarray:
    """Planks with grain, gaps, nails and a little difference from board to board."""
    w, h = size if across else size[::-1]
    grain = noise(rng, (w, h), (420, 7), 4)
    fine = noise(rng, (w, h), (160, 2.5), 2)
    out = linear(colour) * (1 + 0.22 * grain + 0.14 * fine)[..., None]
    stain = noise(rng, (w, h), (260, 180), 4)
    out *= (1 + 0.16 * stain)[..., None]
    edge = np.linspace(0, h, planks + 1).round().astype(int)
    for top, bottom in itertools.pairwise(edge):
        out[top:bottom] *= linear((255, 255, 255)) * np.float32(rng.uniform(0.78, 1.15))
        rows = np.arange(bottom - top, dtype=np.float32)
        near = np.minimum(rows, rows[::-1])
        shade = np.float32(1) - np.float32(0.85) * np.exp(-((near / 2.2) ** 2)) + np.float32(0.12) * np.exp(-(((near - 6) / 3) ** 2))
        out[top:bottom] *= shade[:, None, None]
        for x in (int(w * 0.035), int(w * 0.965)):
            for part in (0.28, 0.72):
                y = int(top + part * (bottom - top))
                cv2.circle(out, (x, y), 5, (0.035, 0.03, 0.028), -1, cv2.LINE_AA)
                cv2.circle(out, (x - 1, y - 2), 2, (0.2, 0.18, 0.16), -1, cv2.LINE_AA)
                out[y:min(h, y + 46), x - 2:x + 3] *= np.float32(0.78)
    out = np.clip(out, 0.005, 1)
    return out if across else np.ascontiguousarray(out.transpose(1, 0, 2))


def crate_front(rng: np.random.Generator, size: tuple[int, int]) -> np.ndarray:
    """The crate's front: planks, a frame of battens with iron corners, and a printed paper label."""
    w, h = size
    out = wood(rng, size, 5)
    batten = int(h * 0.11)
    for top in (0, h - batten):
        out[top:top + batten] = wood(rng, (w, batten), 1, (160, 118, 76))
    for left in (0, w - batten):
        out[:, left:left + batten] = wood(rng, (batten, h), 1, (152, 111, 70), across=False)
    inner = np.ones((h, w), np.float32)
    inner[batten:h - batten, batten:w - batten] = 0
    shadow = cv2.GaussianBlur(inner, (0, 0), 7)
    shadow[inner > 0] = 0
    out *= (1 - 0.75 * shadow)[..., None]
    lw, lh = int(w * 0.62), int(h * 0.62)
    paper = label(rng, (lw, lh))
    x, y = (w - lw) // 2, (h - lh) // 2
    edge = np.zeros((h, w), np.float32)
    edge[y:y + lh, x:x + lw] = 1
    out *= (1 - 0.45 * np.roll(cv2.GaussianBlur(edge, (0, 0), 5), (4, 3), (0, 1)))[..., None]
    out[y:y + lh, x:x + lw] = paper
    iron = linear((58, 58, 62)) * (1 + 0.35 * noise(rng, (batten * 2, batten * 2), (18, 18), 3))[..., None]
    for cy in (0, h - batten * 2):
        for cx in (0, w - batten * 2):
            shape = np.zeros((batten * 2, batten * 2), np.uint8)
            ax, ay = (0 if cx == 0 else batten * 2), (0 if cy == 0 else batten * 2)
            cv2.fillPoly(shape, [np.array([[ax, ay], [batten * 2 - ax, ay], [ax, batten * 2 - ay]])], 255, cv2.LINE_AA)
            a = shape[..., None].astype(np.float32) / 255
            spot = out[cy:cy + batten * 2, cx:cx + batten * 2]
            spot[...] = spot * (1 - a) + iron * a
            for px, py in ((0.22, 0.62), (0.62, 0.22)):
                bx = int(cx + (px if cx == 0 else 1 - px) * batten * 2)
                by = int(cy + (py if cy == 0 else 1 - py) * batten * 2)
                cv2.circle(out, (bx, by), 7, (0.13, 0.13, 0.14), -1, cv2.LINE_AA)
                cv2.circle(out, (bx - 2, by - 2), 2, (0.42, 0.42, 0.42), -1, cv2.LINE_AA)
    return out


def label(rng: np.random.Generator, size: tuple[int, int]) -> np.ndarray:
    """The tea crate's paper label: border, ship, lettering, stains."""
    w, h = size
    paper = np.full((h, w, 3), 1, np.float32) * linear((226, 212, 178))
    ink, red = (38, 46, 60), (150, 44, 34)
    page = np.full((h, w, 3), 255, np.uint8)
    m = int(h * 0.045)
    cv2.rectangle(page, (m, m), (w - m, h - m), ink, 5, cv2.LINE_AA)
    cv2.rectangle(page, (m + 10, m + 10), (w - m - 10, h - m - 10), red, 2, cv2.LINE_AA)
    centred(page, "BRINDLE QUAY", int(h * 0.205), int(h * 0.125), ink, 850)
    centred(page, "HARBOUR TEA", int(h * 0.325), int(h * 0.085), red, 700)
    _ship(page, (int(w * 0.5), int(h * 0.585)), h * 0.175, ink, red)
    centred(page, "LOT 47   FIRST FLUSH   NET 40 LB", int(h * 0.845), int(h * 0.062), ink, 600)
    centred(page, "keep dry", int(h * 0.92), int(h * 0.05), red, 500, "italic")
    for x in (int(w * 0.17), int(w * 0.83)):
        cv2.circle(page, (x, int(h * 0.6)), int(h * 0.095), red, 4, cv2.LINE_AA)
        cv2.circle(page, (x, int(h * 0.6)), int(h * 0.077), ink, 2, cv2.LINE_AA)
        face = cv2.FontFace("sans")
        text = "No" if x < w / 2 else "47"
        wide = int(h * 0.095)
        cv2.putText(page, text, (x - wide // 2, int(h * 0.627)), ink, face, int(h * 0.075), 800)
    print_ = (page.astype(np.float32) / 255) ** np.float32(2.2)
    worn = np.clip(1.05 - 0.55 * np.clip(noise(rng, size, (60, 60), 5) - 0.35, 0, 1), 0, 1)[..., None]
    out = paper * (print_ * worn + (1 - worn))
    out *= (1 + 0.07 * noise(rng, size, (200, 150), 5))[..., None]
    ring: np.ndarray = np.zeros((h, w), np.float32)
    cv2.circle(ring, (int(w * 0.78), int(h * 0.25)), int(h * 0.14), 1, 7, cv2.LINE_AA)
    ring = cv2.GaussianBlur(ring, (0, 0), 2) * (0.6 + 0.4 * noise(rng, size, (50, 50), 2))
    out *= 1 - np.clip(ring, 0, 1)[..., None] * np.array([0.18, 0.32, 0.5], np.float32)
    crease = np.exp(-((np.arange(w) - w * 0.335) / 2.0) ** 2) * 0.16 - np.exp(-((np.arange(w) - w * 0.335 - 4) / 2.0) ** 2) * 0.1
    out *= (1 - crease.astype(np.float32))[None, :, None]
    return np.clip(out, 0.01, 1)


def setts(rng: np.random.Generator, size: tuple[int, int], rows: int = 26) -> np.ndarray:
    """The quay's stone setts, in staggered rows, worn and damp in places."""
    w, h = size
    out = np.ones((h, w, 3), np.float32) * linear((58, 55, 51))
    depth = h / rows
    for r in range(rows):
        x = -rng.uniform(0, depth * 1.6)
        while x < w:
            wide = depth * rng.uniform(1.2, 2.0)
            tone = linear((138, 130, 120)) * np.float32(rng.uniform(0.55, 1.2)) * np.array(
                [rng.uniform(0.94, 1.05), 1, rng.uniform(0.94, 1.08)], np.float32)
            gap = depth * 0.06
            p0 = (int(x + gap), int(r * depth + gap))
            p1 = (int(x + wide - gap), int((r + 1) * depth - gap))
            cv2.rectangle(out, p0, p1, tone.tolist(), -1)
            cv2.line(out, (p0[0], p0[1]), (p1[0], p0[1]), (tone * 1.4).tolist(), 2)
            cv2.line(out, (p0[0], p1[1]), (p1[0], p1[1]), (tone * 0.5).tolist(), 3)
            x += wide
    out = cv2.GaussianBlur(out, (0, 0), 1.4)
    out *= (1 + 0.20 * noise(rng, size, (26, 26), 4))[..., None]
    damp = np.clip(noise(rng, size, (420, 300), 4) * 1.4, 0, 1)[..., None]
    return np.clip(out * (1 - 0.5 * damp), 0.004, 1)


def harbour(rng: np.random.Generator, size: tuple[int, int]) -> np.ndarray:
    """The far shore in evening light: sky, warehouses with lit windows, masts, water."""
    w, h = size
    y = np.linspace(0, 1, h, dtype=np.float32)[:, None, None]
    sky = linear((120, 146, 178)) * (1 - y) + linear((248, 214, 170)) * y
    out = np.broadcast_to(sky, (h, w, 3)).copy()
    cloud = np.clip(noise(rng, size, (700, 130), 5) * 1.3 + 0.1, 0, 1)[..., None] * (1 - y)
    out = out * (1 - 0.65 * cloud) + linear((250, 232, 214)) * 0.65 * cloud
    shore = int(h * 0.70)
    for layer, (tone, low, high) in enumerate((((132, 128, 132), 0.10, 0.26), ((92, 84, 82), 0.12, 0.36))):
        x = -int(rng.uniform(0, 80))
        while x < w:
            wide, tall = int(rng.uniform(110, 260)), int(h * rng.uniform(low, high))
            c = linear(tone) * np.array([rng.uniform(0.85, 1.3), rng.uniform(0.9, 1.05), rng.uniform(0.8, 1.05)], np.float32)
            top = shore - tall
            cv2.rectangle(out, (x, top), (x + wide, shore), c.tolist(), -1)
            roof = np.array([[x - 6, top], [x + wide // 2, top - int(wide * 0.28)], [x + wide + 6, top]])
            cv2.fillPoly(out, [roof], (c * 0.7).tolist(), cv2.LINE_AA)
            if layer:
                for wy in range(top + 16, shore - 24, 34):
                    for wx in range(x + 14, x + wide - 20, 30):
                        lit = rng.uniform() < 0.3
                        pane = linear((255, 206, 128)) * 1.2 if lit else linear((44, 46, 54))
                        cv2.rectangle(out, (wx, wy), (wx + 13, wy + 18), pane.tolist(), -1)
            x += wide + int(rng.uniform(-4, 34) if layer else rng.uniform(-40, 10))
    water = h - shore
    mirror = out[shore - water:shore][::-1] * linear((190, 200, 205))
    ripple = (noise(rng, (w, water), (60, 4), 3) * 16).astype(np.float32)
    xs = np.arange(w, dtype=np.float32)[None] + ripple
    ys = np.arange(water, dtype=np.float32)[:, None] + ripple * 0.3
    out[shore:] = cv2.remap(np.ascontiguousarray(mirror), xs, ys, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    for _ in range(9):
        x, tall = int(rng.uniform(0, w)), int(h * rng.uniform(0.3, 0.55))
        cv2.line(out, (x, shore + 20), (x + int(rng.uniform(-4, 4)), shore + 20 - tall), linear((50, 40, 34)).tolist(), 5, cv2.LINE_AA)
        for part in (0.55, 0.8):
            cv2.line(out, (x - 34, shore - int(tall * part)), (x + 34, shore - int(tall * part)), linear((60, 48, 40)).tolist(), 3, cv2.LINE_AA)
        cv2.line(out, (x, shore + 20 - tall), (x + 80, shore + 16), linear((70, 62, 58)).tolist(), 1, cv2.LINE_AA)
        cv2.ellipse(out, (x, shore + 24), (70, 15), 0, 0, 180, linear((52, 44, 44)).tolist(), -1, cv2.LINE_AA)
    return np.clip(cv2.GaussianBlur(out, (0, 0), 3.6), 0.002, 1.4)


def barrow(rng: np.random.Generator, size: tuple[int, int]) -> np.ndarray:
    """A hand barrow with sacks, seen from the side: (h, w, 4) premultiplied."""
    w, h = size
    alpha = np.zeros((h, w), np.uint8)
    colour = np.zeros((h, w, 3), np.float32)
    cloth = linear((168, 146, 108)) * (1 + 0.30 * noise(rng, size, (9, 9), 3) + 0.25 * noise(rng, size, (70, 50), 3))[..., None]
    timber = wood(rng, size, 9, (120, 82, 52))

    def add(shape: np.ndarray, fill: np.ndarray) -> None:
        a = (shape.astype(np.float32) / 255)[..., None]
        colour[...] = colour * (1 - a) + fill * a
        np.maximum(alpha, shape, out=alpha)

    for cx, cy, rx, ry, turn in ((0.30, 0.36, 0.17, 0.15, -8), (0.66, 0.37, 0.18, 0.14, 7), (0.48, 0.20, 0.17, 0.14, 3)):
        sack = np.zeros((h, w), np.uint8)
        cv2.ellipse(sack, (int(cx * w), int(cy * h)), (int(rx * w), int(ry * h)), turn, 0, 360, 255, -1, cv2.LINE_AA)
        soft = cv2.GaussianBlur(sack.astype(np.float32) / 255, (0, 0), 22)
        add(sack, cloth * (np.float32(rng.uniform(0.75, 1.1)) * (0.35 + 0.75 * soft))[..., None])
        print_ = np.zeros((h, w, 3), np.uint8)
        cv2.putText(print_, "QUAY", (int(cx * w) - 44, int(cy * h) + 12), (200, 200, 200), cv2.FontFace("sans"), 34, 800)
        colour *= 1 - print_.astype(np.float32) / 255
    bed = np.zeros((h, w), np.uint8)
    cv2.fillPoly(bed, [np.array([[int(.06 * w), int(.50 * h)], [int(.94 * w), int(.50 * h)], [int(.86 * w), int(.66 * h)], [int(.12 * w), int(.66 * h)]])],
                 255, cv2.LINE_AA)
    cv2.line(bed, (int(.88 * w), int(.55 * h)), (int(.998 * w), int(.44 * h)), 255, 16, cv2.LINE_AA)
    cv2.line(bed, (int(.75 * w), int(.64 * h)), (int(.79 * w), int(.97 * h)), 255, 16, cv2.LINE_AA)
    add(bed, timber)
    wheel = np.zeros((h, w), np.uint8)
    centre, r = (int(.26 * w), int(.79 * h)), int(.19 * h)
    cv2.circle(wheel, centre, r, 255, 15, cv2.LINE_AA)
    for k in range(5):
        a = k * np.pi / 5 + 0.2
        d = (int(np.cos(a) * r), int(np.sin(a) * r))
        cv2.line(wheel, (centre[0] - d[0], centre[1] - d[1]), (centre[0] + d[0], centre[1] + d[1]), 255, 8, cv2.LINE_AA)
    cv2.circle(wheel, centre, 17, 255, -1, cv2.LINE_AA)
    add(wheel, np.ones((h, w, 3), np.float32) * linear((52, 46, 44)))
    cover = cv2.GaussianBlur(alpha.astype(np.float32) / 255, (0, 0), 1.2)[..., None]
    return np.concatenate([np.clip(colour, 0.003, 1) * cover, cover], 2)


def awning(rng: np.random.Generator, size: tuple[int, int]) -> np.ndarray:
    """A striped canvas awning with a lettered valance: (h, w, 4) premultiplied, opaque."""
    w, h = size
    stripe = (np.arange(w) // (w // 15) % 2 == 0)[None, :, None]
    colour = np.where(stripe, linear((196, 178, 142)), linear((138, 52, 40))) * np.ones((h, 1, 1), np.float32)
    weave = 1 + 0.10 * noise(rng, size, (3, 3), 2) + 0.30 * noise(rng, size, (120, 200), 3)
    colour = (colour * weave[..., None]).astype(np.float32)
    colour[-h // 5:] *= np.float32(0.72)  # the valance hangs in its own shade
    page = np.zeros((h, w, 3), np.uint8)
    cv2.putText(page, "BRINDLE QUAY STORES", (int(0.09 * w), int(0.94 * h)), (255, 255, 255), cv2.FontFace("sans"), 58, 800)
    ink = page[..., :1].astype(np.float32) / 255
    colour = colour * (1 - ink) + linear((236, 226, 200)) * ink
    return np.concatenate([np.clip(colour, 0.003, 1), np.ones((h, w, 1), np.float32)], 2)


def centred(page: np.ndarray, text: str, baseline: int, height: int, colour: tuple[int, int, int], weight: int, face: str = "sans") -> None:
    """Write a line of text in the middle of a page (h, w, 3) uint8."""
    font = cv2.FontFace(face)
    trial = np.zeros_like(page)
    end, _ = cv2.putText(trial, text, (0, baseline), (255, 255, 255), font, height, weight)
    cv2.putText(page, text, ((page.shape[1] - end[0]) // 2, baseline), colour, font, height, weight)


def _ship(page: np.ndarray, at: tuple[int, int], r: float, ink: tuple[int, int, int], red: tuple[int, int, int]) -> None:
    def poly(points: list[tuple[float, float]], colour: tuple[int, int, int]) -> None:
        cv2.fillPoly(page, [np.array([[int(at[0] + x * r), int(at[1] + y * r)] for x, y in points])], colour, cv2.LINE_AA)

    poly([(-1.1, .45), (1.2, .45), (.85, .85), (-.8, .85)], ink)
    for x, tall in ((-.55, .9), (.05, 1.15), (.62, .85)):
        poly([(x - .02, .45), (x + .02, .45), (x + .02, -tall), (x - .02, -tall)], ink)
        for k in range(3):
            top = -tall + 0.08 + k * (tall + .3) / 3.3
            half = .17 + .05 * k
            poly([(x - half, top), (x + half, top), (x + half + .05, top + .30), (x - half - .02, top + .30)], red if k == 1 else ink)
    for k in range(3):
        y = int(at[1] + (0.93 + .10 * k) * r)
        xs = np.arange(int(at[0] - 1.4 * r), int(at[0] + 1.5 * r))
        wave = np.column_stack([xs, y + 3 * np.sin(xs / 11 + k)]).astype(np.int32)
        cv2.polylines(page, [wave], False, ink, 2, cv2.LINE_AA)
