"""A shot that is open: its document with its history, its plate, and its file. The window, the command line and scripts all work through it."""

from pathlib import Path

from psygnal import Signal

from wertis.core.errors import PlateError, ShotFileError
from wertis.core.plate import Plate, open_plate
from wertis.core.shot import autosave, edits, relocate, store
from wertis.core.shot.autosave import Lost
from wertis.core.shot.document import PlateRef, Shot
from wertis.core.shot.history import History


class OpenShot:
    """One shot being worked on.

    Signals
    -------
    changed() : the shot is another one: an edit, undo, or another file.
    plate_changed(same) : another plate is open; `same` when it is the same one, read otherwise.
    trouble(text) : the plate could not follow a change of the shot.

    Attributes
    ----------
    history : the shot, and the way back.
    plate : None when there is none, or it could not be found.
    path : the shot's own file; None when it was never saved.
    """

    changed = Signal()
    plate_changed = Signal(bool)
    trouble = Signal(str)

    def __init__(self) -> None:
        self.history = History(Shot())
        self.history.changed.connect(self._on_history)
        self.path: Path | None = None
        self.plate: Plate | None = None
        self._read_as: object = None  # how the plate that is open is read

    @property
    def shot(self) -> Shot:
        """The shot as it is now."""
        return self.history.shot

    def do(self, label: str, after: Shot, merge: str = "") -> None:
        """Make an edit; see `History.do`."""
        self.history.do(label, after, merge)

    # -- opening --------------------------------------------------------------------------------------------------

    def open_plate(self, path: str | Path) -> Plate:
        """Begin a new shot of a plate.

        Raises
        ------
        PlateError
            When it cannot be read; what was open stays.
        """
        plate = open_plate(path)
        named = plate.path if plate.others else Path(path).expanduser()
        self._take(edits.new_shot(plate, str(named.absolute())), plate, None)
        return plate

    def open_file(self, path: Path, own: Path | None = None, recovered: bool = False) -> str:
        """Open a shot file; what has to be said of it: files that had moved and were found, a plate that cannot be found. Empty when all is well.

        Parameters
        ----------
        own : the file that the shot is to be saved as, where that is another; None is `path` itself unless it is `recovered`.

        Raises
        ------
        ShotFileError
            When it cannot be read; what was open stays.
        """
        before = autosave.read_copy(path) if recovered else store.load(path)
        own = own if recovered else own or path
        gone = relocate.gone(before)
        moved = relocate.search(gone, (own or path).absolute().parent) if gone else {}
        shot = relocate.relocated(before, moved)
        plate, said = None, ""
        if shot.plate is not None:
            try:
                plate = edits.opened(shot.plate)
                if plate.size != shot.plate.size:
                    said = (f"The plate is {plate.size[0]} x {plate.size[1]} now and was {shot.plate.size[0]} x {shot.plate.size[1]} "
                            "when the shot was saved; tracks will not fit it.")
            except PlateError as why:
                said = f"The shot is open but not its plate. {why} Choose it again with File > Replace plate."
        self._take(before, plate, own)
        if moved:
            self.do("Find files again", shot)
            said = said or f"{path.name} is open; {len(moved)} of its files had moved and were found again below its folder."
        return said

    def recover(self, copy: Lost) -> None:
        """Open what was kept of a shot, as unsaved work on the shot's own file.

        Raises
        ------
        ShotFileError
            When the copy cannot be read.
        """
        self.open_file(copy.file, Path(copy.note.path) if copy.note.path else None, recovered=True)
        self.history.mark_unsaved()
        self.changed.emit()

    def find_files(self, folder: Path) -> int:
        """Look below a folder for the files of the shot that are gone; how many were found."""
        found = relocate.search(relocate.gone(self.shot), folder)
        if found:
            self.do("Find files again", relocate.relocated(self.shot, found))
            if self.plate is None and self.shot.plate is not None:
                self._show(edits.opened(self.shot.plate))
        return len(found)

    def replace_plate(self, path: Path) -> None:
        """Point the shot at another plate and keep everything in it.

        Raises
        ------
        PlateError
            When it cannot be read or has another size.
        """
        plate = open_plate(path)
        old = self.shot.plate
        if old is not None and plate.size != old.size:
            raise PlateError(f"{plate.path.name} is {plate.size[0]} x {plate.size[1]} pixels, the shot's plate {old.size[0]} x {old.size[1]}; "
                             "open it as a new shot instead.")
        ref = edits.new_shot(plate, str(path.absolute())).plate
        self.do("Replace plate", self.shot.but(plate=ref))
        self._show(plate)

    def read_otherwise(self, **changes: str) -> None:
        """Another layer of the plate's files (`layer`), or their alpha taken otherwise (`alpha`).

        Raises
        ------
        PlateError
            When there is no such layer, or it has another size; all stays as it was.
        """
        ref = self.shot.plate
        if ref is None or self.plate is None:
            return
        wanted = ref.but(**changes)
        if wanted == ref:
            return
        plate = self.plate.taken(wanted.layer, wanted.alpha)
        if plate.size != ref.size:
            raise PlateError(f"The layer '{wanted.layer}' is {plate.size[0]} x {plate.size[1]} pixels, the plate {ref.size[0]} x {ref.size[1]}; "
                             "choose another.")
        self.do("Choose what is read of the plate", self.shot.but(plate=wanted))

    def save(self, path: Path) -> Path:
        """Save the shot; the file's name, which ends in .wertis.

        Raises
        ------
        ShotFileError
            When it cannot be written; the shot and the file before stay as they are.
        """
        if path.suffix.lower() != store.SUFFIX:
            path = path.with_name(path.name + store.SUFFIX)
        if self.shot.plate is None:
            raise ShotFileError("There is no plate yet; open one before you save.")
        store.save(self.shot, path)
        self.path = path
        self.history.mark_saved()
        self.changed.emit()
        return path

    # -- inside ---------------------------------------------------------------------------------------------------

    def _take(self, shot: Shot, plate: Plate | None, path: Path | None) -> None:
        self.history.changed.disconnect(self._on_history)
        self.history = History(shot)
        self.history.changed.connect(self._on_history)
        self.path = path
        self._show(plate)
        self.changed.emit()

    def _show(self, plate: Plate | None, same: bool = False) -> None:
        self.plate = plate
        ref = self.shot.plate
        self._read_as = _reading(ref) if ref is not None else None
        self._tell_plate()
        self.plate_changed.emit(same)

    def _tell_plate(self) -> None:
        """Let the plate that is open know what the shot says of its cuts."""
        if self.plate is not None and self.shot.plate is not None:
            self.plate.no_cuts = frozenset(self.shot.plate.no_cuts)

    def _on_history(self, shot: Shot) -> None:
        """After undo, redo or a choice: the plate that is open is the one that the shot means."""
        ref = shot.plate
        if ref is not None and self.plate is not None and self._read_as != _reading(ref):
            try:
                self._show(edits.opened(ref), same=True)
            except PlateError as why:
                self._read_as = _reading(ref)  # said once
                self.trouble.emit(str(why))
        self._tell_plate()
        self.changed.emit()


def _reading(ref: PlateRef) -> tuple[str, str, str]:
    """What of a plate's reference says how its files are read."""
    return ref.path, ref.layer, ref.alpha
