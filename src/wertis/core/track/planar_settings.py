"""The planar tracker's settings, with their units and why they are what they are.

"Score" is 1 less the mean likeness of the tiles: 0 is a perfect match, 1 none at all. "The poorer picture" is the reference or the frame, whichever
shows the surface smaller; pixels are its pixels there, and the whole picture's elsewhere. What halved and doubled values do to made shots with every
kind of trouble is summed up in docs/measurements.md.
"""

from dataclasses import dataclass, field

from wertis.core.imaging.shutter import LEG_UNCERTAINTY
from wertis.core.track.align import CORRELATION


@dataclass(frozen=True)
class Start:
    """Where a frame is begun.

    Attributes
    ----------
    rough : see `align`; the place is unsure at first at every level.
    good : score of the first level from which no other start is tried.
    doubtful : score of the first level from which it is begun from where the picture correlates best as well.
    as_usual, most_usual : times the last frame's score up to which a score is as good as those, and the most that counts as usual.
    calm : pixels of innovation below which a start at a quarter of the resolution is enough; a coarser one costs fine lines.
    unsteady : pixels of innovation from which the picture is asked for a start first: beyond the coarsest level's reach.
    far : pixels; a coarse answer further than this from the guess is checked against it at a finer level.
    less_seen : share of the region that is seen, below which an answer may be a wrong minimum.
    worse, worse_by : times the last answer's score, and by how much more, from which it is then aligned once more, by growing kinds of motion.
    less_sure, unsure : times the last answer's expected error, and pixels, from which it is as well.
    surer : times another answer's expected error below which one that looks more like the surface explains more of it.
    """

    rough: float = 0.3
    good: float = 0.35
    doubtful: float = 0.25
    as_usual: float = 1.15
    most_usual: float = 0.5
    calm: float = 4.0
    unsteady: float = 12.0
    far: float = 2.0
    less_seen: float = 0.8
    worse: float = 1.25
    worse_by: float = 0.03
    less_sure: float = 1.3
    unsure: float = 0.2
    surer: float = 0.95


@dataclass(frozen=True)
class Sharpness:
    """When a frame is taken to be blurred otherwise than the reference, and when something lies over the whole surface.

    Attributes
    ----------
    gain : part of itself to which the residual must fall for a change of sharpness to be believed; its unknowns alone take a tenth.
    strong : pixels of expected error below which that holds; a weaker fit gains from the test.
    noisier : times the noise of a sharp frame, below which a frame is taken to be as sharp without a test.
    settled, tested_every : frames in a row after which only every so many are tested in spite of a weak fit, for speed.
    some, long : pixels, standard deviation of a blur: half the resolution is tried from the first, and kept from the second.
    doubt : part of a blur's length by which its middle may be misjudged; added to the expected error.
    veiled : times what grain leaves, from which something lies over the surface that blur does not explain.
    veiled_settled, looked_every : frames in a row on which that is so, from which only every so many are looked at closer, for speed.
    """

    gain: float = 0.76
    strong: float = 0.05
    noisier: float = 1.2
    settled: int = 8
    tested_every: int = 3
    some: float = 1.8
    long: float = 2.5
    doubt: float = 0.06
    veiled: float = 8.0
    veiled_settled: int = 8
    looked_every: int = 10


@dataclass(frozen=True)
class Effort:
    """How many tiles and steps a frame is given.

    Attributes
    ----------
    steps : of each level, by its number, at most.
    last_steps : of the last alignment, blur and all.
    led_steps : of an alignment where little is seen: what few lines hold loosely comes to rest slowly.
    most : tiles of a level that are kept of a large region; bounds time and memory.
    last : tiles where the finest level has the last word.
    again : tiles of a second look by level, which reads each pixel at several places.
    more : tiles where the answer is unsure for want of pixels: of a first (False) and a second look (True).
    unsure : pixels of the poorer picture, of expected error, from which that is so.
    shrunk : scale of the surface below which the finest level is of no use.
    """

    steps: dict[int, int] = field(default_factory=lambda: {0: 2, 1: 3, 2: 5, 3: 8, 4: 10, 5: 10})
    last_steps: int = 3
    led_steps: int = 18
    most: int = 700
    last: int = 90
    again: dict[int, int] = field(default_factory=lambda: {0: 60, 1: 32})
    more: dict[bool, int] = field(default_factory=lambda: {False: 240, True: 110})
    unsure: float = 0.07
    shrunk: float = 0.7


@dataclass(frozen=True)
class Judging:
    """When a frame is lost.

    Attributes
    ----------
    accepted : times the usual misfit below which a tile counts as seen.
    remembered : the same from which it is trusted less on the next frame.
    least_seen : share of the region's texture below which a frame is lost.
    least_likeness : of the tiles that are seen, 0..1, or half of what is usual, below which a frame is lost.
    most_error, most_first : expected corner error in pixels above which a frame is lost, and while it is still to be looked at again.
    most_fresh : the same where the frames before do not vouch for it.
    alike : correlation of a tile with the reference from which it shows the same; in another place few tiles do.
    jump : part of the region's half size from the expected place that counts as a jump, where less than half is seen.
    """

    accepted: float = 6.0
    remembered: float = 4.0
    least_seen: float = 0.06
    least_likeness: float = 0.30
    most_error: float = 4.0
    most_first: float = 10.0
    most_fresh: float = 2.0
    alike: float = 0.7
    jump: float = 0.24


@dataclass(frozen=True)
class Multistart:
    """When an answer that is not sure is confirmed by alignments that start beside it.

    Attributes
    ----------
    unsure : pixels of expected error from which it has to be.
    perturbation : pixels beside it at which they start, within reach of an alignment at half the resolution.
    tolerance : times its expected error within which they have converged to it.
    most_diverging : of the four; of made shots' answers that were wrong by over three times their expected error 12 of 100 then pass, of true ones 85.
    """

    unsure: float = 0.8
    perturbation: float = 4.0
    tolerance: float = 3.0
    most_diverging: int = 1


@dataclass(frozen=True)
class SecondLook:
    """Looking at a frame again, with the blur of its own path.

    Attributes
    ----------
    prior : 1 / px^2, information of how far the path's legs may bend.
    turns, arrived : most turns at half the resolution, and pixels of a turn's move from which there is another.
    farthest : pixels of its answer from the first, beyond which it found something else.
    of_path : part of the path's length by which its middle may lie off, since a hand does not move evenly while the shutter is open; added to the error.
    """

    prior: float = CORRELATION / LEG_UNCERTAINTY ** 2
    turns: int = 4
    arrived: float = 0.7
    farthest: float = 24.0
    of_path: float = 0.008


@dataclass(frozen=True)
class Foretelling:
    """When what the frames before say is asked for, and when it is believed.

    Attributes
    ----------
    weak, little : pixels of expected error from which it is asked for where less than this share of the region is seen.
    weak_shape : pixels of expected error from which what they say of its perspective alone is asked for there.
    lost_in : pixels of expected error from which it is asked for whatever seems seen.
    worse : by how much less like the surface an answer may look that the frames before led to (score).
    as_good : the same where it is said to be less sure.
    guessed, placed : part of what was expected to be in error, below which the pixels must bring it, or the shift alone, for an answer to be theirs.
    """

    weak: float = 0.3
    little: float = 0.6
    weak_shape: float = 0.2
    lost_in: float = 1.0
    worse: float = 0.1
    as_good: float = 0.03
    guessed: float = 0.8
    placed: float = 0.3


START, SHARPNESS, EFFORT, JUDGING = Start(), Sharpness(), Effort(), Judging()
MULTISTART, SECOND_LOOK, FORETELLING = Multistart(), SecondLook(), Foretelling()
