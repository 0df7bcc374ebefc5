"""What one frame's pixels say of a bending surface, kept for aligning many frames together."""

import copy
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wertis.core.imaging.pyramid import Pyramid
from wertis.core.phases import tell
from wertis.core.track.mesh.alignment import CoarserEquations, MeshAlignment
from wertis.core.track.mesh.equations import Linearisation
from wertis.core.track.mesh.frame_pictures import FramePictures


@dataclass(frozen=True)
class Observation:
    """What one frame's pixels say of the surface, and what is expected of its bending.

    Attributes
    ----------
    values, linearised_at : (rows, columns, 2) control values that were found, and those at which the equations are linearised.
    known, hidden : (rows, columns) 0..1 how far each control point is measured, and how far its texture is hidden.
    measures : level to the information (n, 3) and pull (n, 2) of its usable tiles, float32.
    weight, gain : (n,) float32 robust weights 0..1 of the finest level's usable tiles, and how many times the reference's contrast they show.
    orders, scale, fixed : as `SurfacePrior` has them.
    """

    values: np.ndarray
    linearised_at: np.ndarray
    known: np.ndarray
    hidden: np.ndarray
    measures: dict[int, tuple[np.ndarray, np.ndarray]]
    weight: np.ndarray
    gain: np.ndarray
    orders: dict[int, float]
    scale: float
    fixed: bool


def observation(alignment: MeshAlignment, look: Linearisation, coarser: Sequence[CoarserEquations], values: np.ndarray, linearised_at: np.ndarray,
                orders: dict[int, float], scale: float) -> Observation:
    """What a frame's equations say.

    Parameters
    ----------
    look, coarser : of the finest level and of the coarser ones.
    The others are as `Observation` has them.
    """
    measures = {0: (look.information.astype(np.float32), look.pull.astype(np.float32))}
    for each in coarser:
        count = len(alignment.reference.tiles(each.level).usable)
        information, pull = np.zeros((count, 3), np.float32), np.zeros((count, 2), np.float32)
        information[each.part], pull[each.part] = each.information, each.pull
        measures[each.level] = information, pull
    return Observation(values, linearised_at, alignment.known(look), alignment.occlusion(look), measures,
                       look.weight.astype(np.float32), look.measured.gain.astype(np.float32), orders, scale, alignment.fixed_bending_scale is not None)


def last_observation(alignment: MeshAlignment, values: np.ndarray) -> Observation:
    """What the last frame's equations say, with the control values (rows, columns, 2) that they led to."""
    fine = alignment.fine
    return observation(alignment, fine.look, fine.coarser, values, fine.linearised_at, fine.orders, fine.scale)


def observed_again(alignment: MeshAlignment, pyramid: Pyramid, before: Observation, values: np.ndarray, motion: np.ndarray,
                   visible: float) -> Observation:
    """What a frame says linearised about other control values (rows, columns, 2), perhaps by other templates.

    Parameters
    ----------
    motion : (rows, columns, 2) of the control values, pixels a frame: its blur goes by it.
    visible : share 0..1 of the surface that is seen there.
    """
    mine = copy.copy(alignment)  # several frames are looked at side by side
    mine.blur, mine.visible_share = alignment.blur.with_templates(alignment.templates, motion), visible
    look = mine.linearise(pyramid, 0, values)
    return observation(mine, look, mine.coarser_equations(pyramid, look, values), values, values, before.orders, before.scale)


def all_observed_again(alignment: MeshAlignment, pictures: FramePictures, frames: Sequence[int], before: Sequence[Observation], found: np.ndarray,
                       doing: str) -> list[Observation] | None:
    """What all frames say linearised about other displacements; None when a picture cannot be had.

    Parameters
    ----------
    frames : (T,) their numbers.
    found : (T, rows, columns, 2) displacements from the reference frame.
    doing : what is told of it as it goes on.
    """
    values, motion = alignment.lattice.identity + found, np.gradient(found, np.array(frames, np.float64), axis=0)
    known = np.array([o.known.sum() for o in before])
    visible, seen = known / known.max(), list[Observation]()
    for each in pictures.for_each(frames, range(len(frames)),
                                  lambda k, pyramid: observed_again(alignment, pyramid, before[k], values[k], motion[k], float(visible[k]))):
        tell(doing, len(seen), len(frames))
        if each is None:
            return None
        seen.append(each)
    return seen
