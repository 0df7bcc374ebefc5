"""The mesh tracker's settings, with their units and why they are what they are. What was tried is in docs/measurements.md."""

from dataclasses import dataclass, field


@dataclass(frozen=True)
class CoarseToFine:
    """How a frame is aligned, from one resolution to the next.

    Attributes
    ----------
    steps : level to the most Gauss-Newton steps of it.
    arrived : pixels of a step, 95 of 100 control points, below which a level is done; twice as many at each coarser one.
    sure_start : pixels by which the last frame was predicted, up to which tracking begins at level 1.
    fair_start : the same for level 2.
    """

    steps: dict[int, int] = field(default_factory=lambda: {0: 2, 1: 2, 2: 3, 3: 5, 4: 6})
    arrived: float = 0.02
    sure_start: float = 1.0
    fair_start: float = 4.0


@dataclass(frozen=True)
class Failure:
    """When a frame is given up as lost.

    Attributes
    ----------
    least_matched : share of the region's texture that matches, below which it is.
    little_matched : share below which `sure_likeness` is asked of it as well.
    sure_likeness : mean correlation that shows that few matching tiles do not match by chance.
    least_correlation : the same of any share, as part of what noise lets it be. Surfaces that were followed had 0.98 and more in grain, blur and behind
        passers; one whose picture became another one was lost from 0.65 on.
    sure_correlation : the same, for a surface that was lost and is found again.
    """

    least_matched: float = 0.05
    little_matched: float = 0.5
    sure_likeness: float = 0.65
    least_correlation: float = 0.65
    sure_correlation: float = 0.9


@dataclass(frozen=True)
class Photometry:
    """What is left of a tile's luma when all is well, and what a tile is believed.

    Attributes
    ----------
    interpolation_variance : luma variance that interpolation leaves in any picture.
    model_error : part of a tile's texture variance that is left by resampling, blur and small wrinkles.
    robust_cut : times the usual misfit at which a tile counts a quarter.
    inlier_quantile : of the tiles' misfits that is taken for the usual one, so that up to half of the surface may be hidden from one frame to the next.
    quantile_of_visible : the same, of the share that was seen on the last frame, where that is less; half of it would reject what only looks otherwise.
    least_quantile : the same where nearly all is hidden.
    least_correlation : part of the correlation that grain leaves, below which a tile shows something else.
    edge_on : of the surface's usual area, the cosine of 80 degrees: what is turned away further is not measured.
    grain_slopes : level to the squared slopes per pixel that grain of variance 1 at the finest level gives by itself.
    averaged_grain : pixels of a blur that halve the variance of a level's grain (measured on made noise).
    averaged_slopes : the same of the squared slopes of grain.
    coarser : coarser levels that speak where the finest knows little; what is coarser still is blind to a wrinkle.
    little_unknown : share of a coarser tile that is unknown, below which it is not asked.
    least_coarser : coarser tiles that tell what misfit is usual.
    most_information_growth : times as much as on the last full step, that a tile may count on a further one, which goes by that one's matrix.
    most_information_left_out : share of all information that is left out by it, up to which there is such a step.
    measured_information : per square pixel, of a control point: a deviation of a seventh of a pixel, from which its place is measured.
    """

    interpolation_variance: float = 0.1
    model_error: float = 0.03
    robust_cut: float = 4.0
    inlier_quantile: float = 0.4
    quantile_of_visible: float = 0.8
    least_quantile: float = 0.15
    least_correlation: float = 0.3
    edge_on: float = 0.17
    grain_slopes: dict[int, float] = field(default_factory=lambda: {0: 0.64, 1: 0.09, 2: 0.01})
    averaged_grain: float = 3.0
    averaged_slopes: float = 2.0
    coarser: int = 2
    little_unknown: float = 0.05
    least_coarser: int = 8
    most_information_growth: float = 1.4
    most_information_left_out: float = 0.05
    measured_information: float = 50.0


@dataclass(frozen=True)
class Bending:
    """How much a surface is expected to bend, by Student's t: creases are rare and allowed.

    Attributes
    ----------
    degrees_of_freedom : of Student's t.
    first_scale : pixels of second differences that are expected before anything is known.
    least_scale : pixels, the least of them that is ever expected.
    most_scale : pixels, the most.
    weights : order of differences of the surface to its weight. Fourth differences let a wave go on over more bare ground than lower ones.
    weights_occluded : the same while something hides the surface: from a ragged edge lower differences go on less wildly.
    extrapolation_weight : of the second differences where nothing is measured, as part of one over their variance where something is. Half of it leaves
        bare corners a fifth farther off; twice of it takes a fifth of that away, and 0.03 pixels of a gentle stretch in bare sky are lost.
    least_difference : pixels that such differences are never expected to be below, however flat what is measured.
    least_measured : second differences that must be measured for their variance to be known.
    of_innovation : orders of differences of the change against the prediction, at the coarser levels.
    validated_first : frames, the first ones, on each of which the scale is chosen anew by cross-validation.
    validated_every : after those, on every so many.
    """

    degrees_of_freedom: float = 4.0
    first_scale: float = 1.0
    least_scale: float = 0.03
    most_scale: float = 30.0
    weights: dict[int, float] = field(default_factory=lambda: {2: 0.0001, 4: 1.0})
    weights_occluded: dict[int, float] = field(default_factory=lambda: {2: 0.001, 3: 1.0})
    extrapolation_weight: float = 1.0
    least_difference: float = 0.01
    least_measured: float = 10.0
    of_innovation: tuple[int, ...] = (2, 3)
    validated_first: int = 6
    validated_every: int = 12


@dataclass(frozen=True)
class Prediction:
    """What is expected of the next frame.

    Attributes
    ----------
    damping_occluded : per square pixel, Tikhonov damping towards the prediction where the surface is hidden.
    damping : the same where it is seen.
    least_innovation_prior : weight of the prior on the innovation where nothing is occluded, as part of the weight where all is.
    kept_velocity_occluded : part of the motion beside the whole surface's similarity that is predicted to go on where it is hidden.
    kept_velocity : the same where it is seen.
    """

    damping_occluded: float = 1 / 3.0 ** 2
    damping: float = 1 / 40.0 ** 2
    least_innovation_prior: float = 1e-3
    kept_velocity_occluded: float = 0.6
    kept_velocity: float = 0.8


@dataclass(frozen=True)
class Occlusion:
    """What is taken to be hidden, and how it is found again.

    Attributes
    ----------
    mostly_visible : share of the texture from which a frame's shape is learned.
    some_occluded : share of the rich texture from which something hides the surface.
    little_texture : of the usual texture round a control point, below which nobody can say that it is hidden.
    rich : times the grain's variance from which a tile is rich.
    least_lost : rich tiles that must be lost before they are looked for.
    nearly_alike : correlation of a rich tile from which it lies where it should, however it misfits.
    turns : most times that a frame's hidden parts are looked for.
    worth_another : share of the texture that one turn must bring for another.
    least_gain : share of the texture from which what was found again is believed.
    patch_sides : pixels, the least and most side of the patches that it is found by.
    patch_side : of the control points' distance, their side between those.
    patch_overlap : of the side, how far apart they lie.
    surroundings : sides of a patch, round what is hidden, in which patches are looked for.
    least_displacement : pixels by which a patch that is found must lie off.
    """

    mostly_visible: float = 0.85
    some_occluded: float = 0.03
    little_texture: float = 0.15
    rich: float = 8.0
    least_lost: int = 4
    nearly_alike: float = 0.85
    turns: int = 5
    worth_another: float = 0.005
    least_gain: float = 0.001
    patch_sides: tuple[int, int] = (15, 41)
    patch_side: float = 0.8
    patch_overlap: float = 0.9
    surroundings: float = 2.5
    least_displacement: float = 0.3


@dataclass(frozen=True)
class Reacquisition:
    """How a surface that was lost is found again by features of the whole picture.

    Attributes
    ----------
    off_affine : of the surface's size, by which it may lie off the affine map that most features agree on.
    noise : pixels, of a feature's place.
    bending : of the distance of the control points, by which one is expected to lie off the line between its neighbours.
    rounds : of robust reweighting.
    innovation : pixels of second differences, by which the surface may lie off where the features lead.
    """

    innovation: float = 3.0
    off_affine: float = 0.06
    noise: float = 2.0
    bending: float = 0.1
    rounds: int = 6


@dataclass(frozen=True)
class Blur:
    """When motion blur is modelled.

    Attributes
    ----------
    shutters : parts of a frame for which the shutter may be open, that are tried.
    shutter_tiles : number of tiles by which it is told which of them it is.
    shutter_frames : number of frames by which it is told; a third of them where there seems to be none.
    usual_shutter : the part for which it is usually open, by common practice: whether it could blur.
    gain : of correlation, a frame, from which blur is believed.
    least_length : pixels of a blur from which it is modelled.
    foreshortened : of the surface's length in some direction, from which pixels of the frame are taken to cover several of the reference frame.
    most_foreshortened : the same, beyond which a surface is too far turned away to be measured.
    longer : times the longest motion by which no blur was told, from which that is asked again: what a blur takes grows with its length's square.
    """

    shutters: tuple[float, ...] = (0.0, 0.25, 0.375, 0.5, 0.625, 0.75, 1.0)
    shutter_tiles: int = 200
    shutter_frames: int = 9
    usual_shutter: float = 0.5
    gain: float = 0.01
    least_length: float = 1.5
    foreshortened: float = 0.75
    most_foreshortened: float = 0.35
    longer: float = 1.5


@dataclass(frozen=True)
class Uncertainty:
    """What a vertex states for its expected error.

    Attributes
    ----------
    least : pixels, however rich the texture: resampling.
    factor : times the deviation that the equations state, for what they leave out: tiles share grain, light is not quite a ramp.
    of_blur : part of a blur's length by which its middle may lie off: the shutter, and a motion that changes while it is open.
    drift_surrounded : pixels a frame by which a hidden part between seen ones may come to lie elsewhere than expected.
    drift_folded : the same of a hidden part that seen ones do not surround: it may have folded under.
    recomputed_every : frames after which the equations' deviation is worked out anew: what grain leaves changes slowly.
    """

    least: float = 0.02
    factor: float = 2.2
    of_blur: float = 0.01
    drift_surrounded: float = 0.9
    drift_folded: float = 10.0
    recomputed_every: int = 6


@dataclass(frozen=True)
class TemplateUpdate:
    """When a later frame stands in for the reference frame as a tile's template.

    Attributes
    ----------
    changed : of its best correlation, below which a tile looks otherwise than it did.
    slightly_changed : the same, below which a tile is looked at anew when that is due.
    smoothing : weight of the frames before in how well a tile usually correlates.
    most_step : of the correlation that noise leaves, by which it may change from a frame to the next: what is covered changes at once.
    least_share : of the tiles with texture that must look otherwise at once: a slow passer covers fewer.
    least_correlation : of the correlation that noise leaves, from which a tile is still the same spot.
    rich : of the median variance of the tiles' luma, from which a tile has texture.
    least_apart : frames between two updates.
    most_templates : templates that are kept; each takes about as much memory as 200 bytes for every pixel of the region.
    better : of the correlation that noise leaves, by which another template must fit better.
    as_before : of the correlation that noise leaves, from which a tile looks as on the reference frame.
    compared_every : frames after which that is looked at.
    """

    changed: float = 0.85
    slightly_changed: float = 0.95
    smoothing: float = 0.6
    most_step: float = 0.08
    least_share: float = 0.1
    least_correlation: float = 0.5
    rich: float = 0.5
    least_apart: int = 5
    most_templates: int = 8
    better: float = 0.03
    as_before: float = 0.92
    compared_every: int = 3


@dataclass(frozen=True)
class Batch:
    """Aligning all frames together.

    Attributes
    ----------
    least_frames : frames from which it is done: fewer say little of what can move how.
    least_measured : of the most control points that are measured on a frame, those that must be for it to be aligned with the others.
    most_frames, most_tiles : frames that are aligned together, and tiles of all of them: each tile takes about 100 bytes meanwhile.
    shared_part : one in so many of a block's frames is among those with which the next block begins.
    reference_damping : per square pixel: the reference frame's grain causes apparent displacements of about a tenth of a pixel.
    alike : square pixels, below which variances of modes are alike to the preconditioner.
    bending_share : how much each difference of the surface counts: neighbouring ones overlap and say much the same. A third to half of that gave the
        least errors, and from one on what is measured is drawn flat.
    steps : of conjugate gradients; further ones fit what the model leaves out, where little is measured (semi-convergence: P. C. Hansen, Discrete
        inverse problems, 2010, chapter 6).
    model_error : part of the error that each frame by itself left, that trajectories and white grain do not account for.
    same_place : pixels within which a vertex' place is the one that a frame's equations are about.
    most_moved : pixels by which a vertex may be moved by the last equations: about as far as they hold.
    of_step : part of what a vertex is moved by that its expected error takes in: what contradicts the other frames may have moved so.
    most_kept : bytes of pictures that are kept for looking at them again; the others are read again.
    """

    least_frames: int = 12
    least_measured: float = 0.6
    most_frames: int = 240
    most_tiles: float = 2e6
    shared_part: int = 4
    reference_damping: float = 100.0
    alike: float = 0.002
    bending_share: float = 0.3
    steps: int = 10
    model_error: float = 0.7
    same_place: float = 0.05
    most_moved: float = 2.0
    of_step: float = 0.3
    most_kept: int = 128_000_000


@dataclass(frozen=True)
class MeanTemplate:
    """When the mean of the frames stands in for the reference frame, once they have been aligned together.

    Attributes
    ----------
    slopes_of_grain : part of a tile's squared gradients that is grain's, from which it does. Tiles of clear texture lose a little by resampling.
    most_grain_share : of a frame's grain variance, that the mean may have: about five frames that show the tile.
    least_share : of all tiles, that must gain.
    low_pass_side : pixels, of the box that is applied twice: what it leaves of a picture may be light, and stays the reference frame's.
    least_gain : of the reference's contrast, below which a frame adds no more.
    rounds : most times that the mean is taken, each by better maps.
    converged : pixels, by which 98 of 100 places of vertices were moved the last time, from which it is not taken again. Twice that makes tracking
        a seventh quicker, and left 0.072 px in place of 0.059 on a shot with grain and blur.
    most_frames : frames of a mean, spread evenly: their grain's variance is then a fortieth.
    least_frames : frames that a mean is made of.
    most_blur : pixels, by which those may be blurred otherwise than the reference frame, and that one itself: what is blurred by 15 came out worse.
    """

    slopes_of_grain: float = 0.1
    most_grain_share: float = 0.2
    least_share: float = 0.02
    low_pass_side: int = 25
    least_gain: float = 0.3
    rounds: int = 5
    converged: float = 0.05
    most_frames: int = 40
    least_frames: int = 8
    most_blur: float = 9.0


@dataclass(frozen=True)
class Completion:
    """Completing frames of which much is hidden or bare.

    Attributes
    ----------
    little_measured : part of what is measured of the best frames, below which a frame must be for frames to be completed; where grain or foreshortening
        leave a little less than on other frames nothing was gained.
    poorly_measured : the same, below which a frame is completed then.
    least_reliable : frames by which basis shapes are begun, at least.
    known_information : part of a control point's photometric information that is believed where its vertices state a large error: what was matched
        there may be something else.
    least_deviation : pixels, of what was measured.
    most_shapes : basis shapes beside the affine motion.
    least_shape : pixels, rms of a basis shape's motion over the frames, from which it is one.
    beside_basis : pixels by which a control point may lie off the basis shapes: the noise of probabilistic principal component analysis.
    usual_difference : the same, where that is interpolated between control points.
    bending : pixels, second difference of that between control points.
    least_acceleration : pixels a frame and frame, of a basis shape's coefficient.
    robust_cut : deviations at which what was found counts half.
    rounds, reweighted : times that basis and robust weights are worked out.
    steps : Gauss-Newton steps from where a completed frame is expected.
    joint_rounds : times that all frames are aligned together after it by their mean; by the reference frame alone what is bare drifts from the second on.
    """

    little_measured: float = 0.8
    poorly_measured: float = 0.9
    least_reliable: int = 12
    known_information: float = 0.05
    least_deviation: float = 0.05
    most_shapes: int = 16
    least_shape: float = 0.05
    beside_basis: float = 0.3
    usual_difference: float = 1.0
    bending: float = 1.0
    least_acceleration: float = 0.01
    robust_cut: float = 2.0
    rounds: int = 4
    reweighted: int = 5
    steps: int = 4
    joint_rounds: int = 2


COARSE_TO_FINE = CoarseToFine()
FAILURE = Failure()
PHOTOMETRY = Photometry()
BENDING = Bending()
PREDICTION = Prediction()
OCCLUSION = Occlusion()
REACQUISITION = Reacquisition()
BLUR = Blur()
UNCERTAINTY = Uncertainty()
TEMPLATE_UPDATE = TemplateUpdate()
BATCH = Batch()
MEAN_TEMPLATE = MeanTemplate()
COMPLETION = Completion()
