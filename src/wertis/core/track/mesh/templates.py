"""The templates of a mesh tracker's tiles: the reference frame, or a later frame where the surface has come to look otherwise for good.

A later frame's picture is resampled into the reference frame's pixels by the map that is known for it, so that its tiles stand where the reference's do.
What is measured by them is off by the error of that map, once, however many frames use it (the template update problem: I. Matthews, T. Ishikawa and
S. Baker, IEEE PAMI 26, 2004).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
import scipy

from wertis.core.imaging.pyramid import Pyramid
from wertis.core.track.mesh.reference import MeshReference, MeshTiles, put, with_own_pictures
from wertis.core.track.mesh.settings import TEMPLATE_UPDATE

_COARSE = 4  # pixels between the places at which the map is evaluated for resampling; cubic between them
MARGIN = 48  # pixels round the region that are resampled as well, for the coarser levels

Map = Callable[[np.ndarray], np.ndarray]
"""Takes points (n, 2) of the reference frame to another frame, both with the first pixel's centre at 0."""


@dataclass
class _Template:
    """One template: the picture, and for each tile (K,) of the finest level whether it has it, by how many pixels it may lie off, its grain's share."""

    reference: MeshReference
    covers: np.ndarray
    error: np.ndarray
    grain_share: np.ndarray

    @cached_property
    def fine(self) -> MeshTiles:
        """Its tiles of the finest level."""
        return self.reference.tiles(0)


@dataclass
class _CorrelationHistory:
    """Correlation of each usable tile of the finest level with its template, as part of what noise lets it be: now (n,), smoothed, and at best."""

    now: np.ndarray
    smooth: np.ndarray
    best: np.ndarray

    @classmethod
    def fresh(cls, count: int) -> "_CorrelationHistory":
        """Of a template that was just taken."""
        return cls(np.ones(count), np.ones(count), np.ones(count))


class TileTemplates:
    """The templates of a surface's tiles.

    Parameters
    ----------
    reference : of the reference frame.
    """

    def __init__(self, reference: MeshReference) -> None:
        fine = reference.tiles(0)
        self._all = [_Template(reference, np.ones(len(fine), bool), np.zeros(len(fine)), np.ones(len(fine)))]
        self._template = np.zeros(len(fine), np.int64)  # of each tile of the finest level
        self._mixed: dict[int, MeshTiles] = {}
        self._history = _CorrelationHistory.fresh(len(fine.usable))
        self._since = 0  # frames since a template was taken

    @property
    def changed(self) -> bool:
        """Whether a template other than the reference frame's is in use."""
        return bool(self._template.any())

    @property
    def several(self) -> bool:
        """Whether there are templates to choose from."""
        return len(self._all) > 1

    def tiles(self, level: int) -> MeshTiles:
        """The tiles of a pyramid level, each in the template that it has now. They stand where the reference frame's do, and as many are usable."""
        base = self._all[0].reference.tiles(level)
        if not self.changed:
            return base
        if level not in self._mixed:
            nearest = scipy.spatial.cKDTree(self._all[0].fine.centre).query(base.centre)[1] if level else np.arange(len(self._template))
            template = self._template[nearest]
            error, share = (np.array(each)[template, nearest] for each in ([t.error for t in self._all], [t.grain_share for t in self._all]))
            self._mixed[level] = self._mixed_tiles(base, template, error, share)
        return self._mixed[level]

    def blurred(self, tiles: MeshTiles, chosen: np.ndarray, along: np.ndarray, taps: int) -> MeshTiles:
        """Chosen tiles (n,) blurred as `MeshReference.blur_into` says, each in the template that it has; there is nothing in the others' pictures."""
        made = with_own_pictures(tiles, copied=False)
        template = tiles.template[chosen]
        for k in np.unique(template):
            self._all[k].reference.blur_into(made, tiles, chosen[template == k], along, taps)
        return made

    def to_update(self, chosen: np.ndarray, correlation: np.ndarray, matched: np.ndarray) -> np.ndarray | None:
        """Take note of a frame; the usable tiles (n,), as a mask, whose templates to update, or None while that is not due.

        It is due when more of the surface looks otherwise than a slow passer covers, tile by tile little by little, and the last update is long enough
        ago.

        Parameters
        ----------
        chosen : (n,) the numbers of the usable tiles.
        correlation : (n,) correlation of each with its template, as part of what noise lets it be.
        matched : (n,) whether it can still be told that it is the same spot.
        """
        history, self._since = self._history, self._since + 1
        slow, rich = matched & (np.abs(correlation - history.now) < TEMPLATE_UPDATE.most_step), self.rich[chosen]
        smooth = np.where(matched, TEMPLATE_UPDATE.smoothing * history.smooth + (1 - TEMPLATE_UPDATE.smoothing) * correlation, history.smooth)
        self._history = _CorrelationHistory(np.where(matched, correlation, history.now), smooth, np.maximum(history.best, smooth))
        changed = slow & rich & (np.maximum(smooth, correlation) < TEMPLATE_UPDATE.changed * self._history.best)
        if self._since < TEMPLATE_UPDATE.least_apart or len(self._all) >= TEMPLATE_UPDATE.most_templates:
            return None
        if changed.sum() <= TEMPLATE_UPDATE.least_share * max(int(rich.sum()), 1):
            return None
        # what was bare may be so no more
        return np.asarray(np.where(rich, slow & (smooth < TEMPLATE_UPDATE.slightly_changed * self._history.best), True))

    @cached_property
    def rich(self) -> np.ndarray:
        """(K,) whether a tile of the finest level has so much texture on the reference frame that its likeness says something."""
        energy = self._all[0].fine.energy
        return np.asarray(energy > TEMPLATE_UPDATE.rich * np.median(energy))

    def add(self, luma: np.ndarray, where: Map, tiles: np.ndarray, errors: np.ndarray) -> int:
        """A frame's template of tiles (n,) of the finest level, by their numbers; the template's number.

        Parameters
        ----------
        luma : (height, width) the frame's picture, as the tracker templates at it.
        where : the map to it.
        errors : (n,) expected error of that map at the tiles, pixels.
        """
        first = self._all[0]
        made = MeshReference(Pyramid(resampled(luma, where, first.reference)), first.reference.mask)
        template = _Template(made, np.zeros(len(self._template), bool), np.zeros(len(self._template)), np.ones(len(self._template)))
        template.fine = made.tiles_at(first.fine)
        sound = (template.fine.own[tiles] > 1e-3) & (template.fine.structure[tiles, 0] + template.fine.structure[tiles, 2] > 1e-6)
        template.covers[tiles[sound]], template.error[tiles[sound]] = True, errors[sound]
        self._all.append(template)
        return len(self._all) - 1

    def with_mean(self, reference: MeshReference, tiles: np.ndarray, grain_share: np.ndarray) -> "TileTemplates":
        """The same first template, and for tiles (n,) of the finest level, by their numbers, the mean of many frames.

        Parameters
        ----------
        grain_share : (n,) variance of the mean's grain as part of a frame's.
        """
        made = TileTemplates(self._all[0].reference)
        covers, share = np.zeros(len(self._template), bool), np.ones(len(self._template))
        covers[tiles], share[tiles] = True, grain_share
        made._all.append(_Template(reference, covers, np.zeros(len(covers)), share))
        made.use(1)
        return made

    def use(self, template: int) -> None:
        """Compare all tiles that have a template with that one from now on."""
        self._template = np.where(self._all[template].covers, template, self._template)
        self._mixed, self._since, self._history = {}, 0, _CorrelationHistory.fresh(len(self._history.now))

    def choose(self, correlation: Callable[[MeshTiles], np.ndarray]) -> None:
        """Let each tile that has several templates be compared with the reference frame's where that fits, and else with the one that fits best.

        Parameters
        ----------
        correlation : gives that of tiles (n,) with the frame at hand, as part of what noise lets it be.
        """
        several = np.flatnonzero(np.any([each.covers for each in self._all[1:]], axis=0))
        fit = np.full((len(self._all), len(several)), -np.inf)
        for k, each in enumerate(self._all):
            has = np.flatnonzero(each.covers[several])
            fit[k, has] = correlation(each.fine.part(several[has]))
        now = self._template[several]
        best = fit.argmax(0)
        better = fit[best, np.arange(len(several))] > fit[now, np.arange(len(several))] + TEMPLATE_UPDATE.better
        template = np.where(fit[0] > TEMPLATE_UPDATE.as_before, 0, np.where(better, best, now))
        if np.any(template != now):
            self._template[several] = template
            self._mixed, self._history = {}, _CorrelationHistory.fresh(len(self._history.now))

    # -- inside ---------------------------------------------------------------------------------------------------

    def _mixed_tiles(self, base: MeshTiles, template: np.ndarray, error: np.ndarray, share: np.ndarray) -> MeshTiles:
        out = replace(with_own_pictures(base), template=template, template_error=error, grain_share=share)
        out.__dict__["usable"] = base.usable
        for k in np.unique(template[template > 0]):
            other = self._all[k].reference.tiles_at(base)
            mine = np.flatnonzero((template == k) & (other.own > 1e-3))
            put(out, mine, other.part(mine))
        return out


def resampled(luma: np.ndarray, where: Map, reference: MeshReference) -> np.ndarray:
    """(height, width) float32 of the reference frame's pixels: a frame's picture round the region, the reference's own elsewhere."""
    out = reference.pyramid[0].copy()
    h, w = out.shape
    x0, y0, x1, y1 = reference.box
    x0, y0, x1, y1 = max(x0 - MARGIN, 0), max(y0 - MARGIN, 0), min(x1 + MARGIN, w), min(y1 + MARGIN, h)
    columns, rows = (-(-(b - a) // _COARSE) + 1 for a, b in ((x0, x1), (y0, y1)))
    # of blocks of pixels, their middles
    x, y = (a + (_COARSE - 1) / 2 + _COARSE * np.arange(n) for a, n in ((x0, columns), (y0, rows)))
    places = where(np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)).reshape(rows, columns, 2).astype(np.float32)
    full = cv2.resize(places, None, fx=_COARSE, fy=_COARSE, interpolation=cv2.INTER_CUBIC)[:y1 - y0, :x1 - x0]
    out[y0:y1, x0:x1] = cv2.remap(luma.astype(np.float32, copy=False), full[..., 0], full[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    return out
