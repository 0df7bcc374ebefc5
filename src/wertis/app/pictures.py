"""Display pictures, made off the window's thread: the newest wish first, finished ones kept for playing."""

import logging
import threading
from collections import OrderedDict

import cv2
import numpy as np
from psygnal import Signal

from wertis.core.comp.picture import Compositor
from wertis.core.errors import PlateError, WertisError
from wertis.core.plate import colour
from wertis.core.plate.cache import FrameCache
from wertis.core.plate.colour import Viewing
from wertis.core.shot.document import Placement, Shot
from wertis.core.shot.fills import Fill
from wertis.core.shot.grades import Grade
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.mattes import Matte
from wertis.core.shot.patches import Patch
from wertis.core.shot.plate_pictures import forget_files

Key = tuple[int, int, bool, int]
_GREY = 74.0  # of 255, behind what is cut out
_RAISED = 0.3  # power by which faint alpha is raised
_log = logging.getLogger(__name__)


class PictureMaker:
    """Makes 8-bit RGB pictures of frames, with or without the graphics.

    Signals (sent from its own thread)
    -------
    made(frame, picture, error) : picture (h, w, 3) uint8, smaller where that was wished, or None with the reason; error may also come with a picture.

    Parameters
    ----------
    budget : most bytes of finished pictures kept.
    """

    made = Signal(int, object, str)

    def __init__(self, budget: int = 1 << 30) -> None:
        self._budget = budget
        self._kept: OrderedDict[Key, tuple[np.ndarray | None, str]] = OrderedDict()  # pictures only, no failures
        self._bytes = 0
        self._wish: tuple[int, Shot, bool, int, bool] | None = None
        self._ahead: list[int] = []
        self._cache: FrameCache | None = None
        self._compositor = Compositor(stand_in=True)
        self._shot: Shot | None = None
        self._version = 0
        self._viewing = Viewing()
        self._matte = ("", "")  # the id of the matte that is shown instead, and how
        self._wake = threading.Condition()
        self._closed = False
        self._thread = threading.Thread(target=self._run, name="wertis-pictures", daemon=True)
        self._thread.start()

    def use(self, cache: FrameCache | None) -> None:
        """Another plate."""
        with self._wake:
            self._cache = cache
            self._forget()
            self._compositor = Compositor(stand_in=True)
            self._wish = None
            self._ahead = []

    def set_shot(self, shot: Shot) -> None:
        """The shot changed; pictures that show graphics are stale when the look of it did."""
        with self._wake:
            old, self._shot = self._shot, shot
            if old is None or not _same_look(old, shot):
                self._version += 1

    def look_through(self, viewing: Viewing) -> None:
        """Show pictures otherwise from now on."""
        with self._wake:
            self._viewing = viewing
            self._forget()

    def look_at_matte(self, ident: str, how: str) -> bool:
        """Show a matte in the place of the picture: "alone", its faint parts raised ("leaks"), what it cuts "out", or alone with
        its soft edge taken from the picture ("picture edge"); nothing of the kind for "".

        Whether that is another wish than before.
        """
        with self._wake:
            changed = (ident, how) != self._matte
            if changed:
                self._matte = (ident, how)
                self._forget()
        return changed

    def refresh_files(self) -> None:
        """Read artwork again, and pictures that mattes are made of."""
        forget_files()
        with self._wake:
            self._compositor = Compositor(stand_in=True)
            self._forget()

    def ready(self, frame: int, graphics: bool, reduced: int = 1) -> tuple[np.ndarray | None, str] | None:
        """The finished picture, when there is one."""
        with self._wake:
            return self._kept.get(self._key(frame, graphics, reduced))

    def wish(self, frame: int, graphics: bool, ahead: list[int] | None = None, reduced: int = 1, both: bool = False) -> None:
        """Ask for a frame; earlier wishes not begun are dropped. `ahead` are made afterwards, in order. `reduced` ones are made at a part of
        the resolution (a half for 2). With `both`, the plate without graphics is ready, too, when the frame is told."""
        with self._wake:
            if self._shot is not None:
                self._wish = (frame, self._shot, graphics, reduced, both)
                self._ahead = list(ahead or [])
                self._wake.notify()

    def close(self) -> None:
        """End the thread."""
        with self._wake:
            self._closed = True
            self._wake.notify()
        self._thread.join(5)

    def _key(self, frame: int, graphics: bool, reduced: int) -> Key:
        return frame, self._version if graphics or self._matte[1] else -1, graphics, reduced

    def _run(self) -> None:
        graphics, reduced, both = True, 1, False
        while True:
            with self._wake:
                while self._wish is None and not self._ahead and not self._closed:
                    self._wake.wait()
                if self._closed:
                    return
                announce = self._wish is not None
                if self._wish is not None:
                    frame, shot, graphics, reduced, both = self._wish
                    self._wish = None
                else:
                    frame = self._ahead.pop(0)
                    assert self._shot is not None
                    shot = self._shot
                key, cache, compositor = self._key(frame, graphics, reduced), self._cache, self._compositor
                viewing = self._viewing
                keys = [key, *([self._key(frame, False, reduced)] if both and graphics else [])]
                missing = [k for k in keys if k not in self._kept]
                done = self._kept.get(key)
            if cache is None:
                continue
            for wanted in missing:
                try:
                    made = self._make(shot, frame, wanted[2], cache, compositor, reduced, viewing)
                except Exception as why:  # one frame's trouble is told on that frame, and the next one appears
                    _log.exception("the picture of frame %d could not be made", frame)
                    made = None, f"Frame {frame} cannot be shown ({type(why).__name__}: {why}). The log has the details."
                done = made if wanted == key else done
                with self._wake:
                    if cache is self._cache and viewing is self._viewing:
                        self._keep(wanted, made)
            if announce and done is not None:
                self.made.emit(frame, done[0], done[1])

    def _make(self, shot: Shot, frame: int, graphics: bool, cache: FrameCache, compositor: Compositor,
              reduced: int, viewing: Viewing) -> tuple[np.ndarray | None, str]:
        try:
            plate = cache.get(frame)
        except PlateError as why:
            return None, str(why)
        error = ""
        h, w = plate.shape[:2]
        if reduced > 1:
            plate = cv2.resize(plate, (-(-w // reduced), -(-h // reduced)), interpolation=cv2.INTER_AREA).reshape(-(-h // reduced), -(-w // reduced), -1)
        picture = plate
        if graphics:
            try:
                picture = compositor.comp(shot, plate, frame, samples=1, reduced=reduced)
                error = " ".join(compositor.problems)
            except WertisError as why:
                error = str(why)
        try:
            shown = colour.shown(picture, viewing)
        except PlateError as why:
            shown, error = colour.shown(picture), str(why)
        ident, how = self._matte
        matte = shot.item(ident, Matte) if how else None
        if matte is not None and how == "picture edge":
            matte, how = matte.but(edge="picture"), "alone"
        if matte is not None:
            shown = _through_matte(shown, matte_alpha(shot, matte, frame, (w, h)), how)
        return shown, error

    def _keep(self, key: Key, done: tuple[np.ndarray | None, str]) -> None:
        if key in self._kept or done[0] is None:  # what could not be read may be readable the next time
            return
        self._kept[key] = done
        self._bytes += done[0].nbytes if done[0] is not None else 0
        while self._bytes > self._budget and len(self._kept) > 1:
            _, (old, _) = self._kept.popitem(last=False)
            self._bytes -= old.nbytes if old is not None else 0

    def _forget(self) -> None:
        self._kept.clear()
        self._bytes = 0
        self._version += 1


def _through_matte(shown: np.ndarray, alpha: np.ndarray, how: str) -> np.ndarray:
    """A display picture (h, w, 3) uint8 as one looks at a matte (h, w); see `PictureMaker.look_at_matte`."""
    h, w = shown.shape[:2]
    if alpha.shape != (h, w):
        alpha = cv2.resize(alpha, (w, h), interpolation=cv2.INTER_AREA)
    if how == "out":
        share = alpha[..., None]
        return np.asarray(shown * share + _GREY * (1 - share) + 0.5, np.uint8)
    level = np.power(alpha, _RAISED) if how == "leaks" else alpha
    return np.ascontiguousarray(np.asarray(level * 255 + 0.5, np.uint8)[..., None].repeat(3, 2))


def _same_look(a: Shot, b: Shot) -> bool:
    """Whether two shots' frames look the same: names and regions do not show in the comp."""
    if len(a.tracks) != len(b.tracks) or a.mixing != b.mixing or (a.plate and a.plate.colour) != (b.plate and b.plate.colour):
        return False
    of_a, of_b = ([x for x in shot.items if isinstance(x, Placement | Matte | Grade | Fill | Patch)] for shot in (a, b))
    return of_a == of_b and all(s.visible == t.visible and s.solution is t.solution and s.region.box.tobytes() == t.region.box.tobytes()
                                and s.layers == t.layers for s, t in zip(a.tracks, b.tracks, strict=True))
