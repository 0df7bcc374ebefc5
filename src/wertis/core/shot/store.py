"""The shot file: a zip with `shot.json` and `.npy` members. docs/formats.md describes it. Nothing in it is ever executed."""

import io
import json
import os
import tokenize
import zipfile
import zlib
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from wertis.core.errors import ShotFileError
from wertis.core.files import replacing
from wertis.core.shot.document import FORMAT_VERSION, Shot, Solved

SUFFIX = ".wertis"
FORMAT = "wertis-shot"
MOST_JSON = 64 << 20
MOST_ARRAY = 512 << 20
_ARRAYS = {"frames": np.int64, "matrices": np.float64, "errors": np.float64, "seen": np.float64}
_SOLVED = {"solved": "", "again": "again/"}  # parts of a track that are arrays, and the folder of each


def save(shot: Shot, path: Path) -> None:
    """Write the shot; the file is whole or unchanged. Paths to plates and artwork are kept relative to it where that is shorter to move.

    Raises
    ------
    ShotFileError
        When it cannot be written.
    """
    document, arrays = _parted(shot, path.absolute().parent)
    with replacing(path, ShotFileError) as temporary, zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("shot.json", json.dumps(document, indent=1, ensure_ascii=False))
        for name, array in arrays.items():
            data = io.BytesIO()
            np.lib.format.write_array(data, np.ascontiguousarray(array), allow_pickle=False)
            archive.writestr(name, data.getvalue())


def load(path: Path) -> Shot:
    """Read a shot file.

    Raises
    ------
    ShotFileError
        When it is not a shot file, is damaged, or comes from a newer Wertis.
    """
    if not path.is_file():
        raise ShotFileError(f"{path} does not exist; check the name.")
    try:
        with zipfile.ZipFile(path) as archive:
            document = json.loads(_member(archive, "shot.json", MOST_JSON).decode("utf-8"))
            return _joined(document, archive, path)
    except ShotFileError:
        raise
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError, KeyError, TypeError, ValueError, AttributeError,
            RecursionError, RuntimeError, OSError, MemoryError, SyntaxError, tokenize.TokenError, zlib.error) as why:
        detail = "; ".join(f"{'.'.join(map(str, e['loc']))}: {e['msg']}" for e in why.errors()[:3]) \
            if isinstance(why, ValidationError) else str(why)
        raise ShotFileError(f"{path.name} is not a shot file that can be opened ({detail or type(why).__name__}); it may be damaged or "
                            "another kind of file. Open a copy of it, or an earlier save.") from why


def _parted(shot: Shot, folder: Path) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    arrays: dict[str, np.ndarray] = {}
    tracks = []
    for n, track in enumerate(shot.tracks):
        fields = track.model_dump(mode="json", exclude=set(_SOLVED))
        for part, folder_of in _SOLVED.items():
            s = getattr(track, part)
            names = {key: f"tracks/{n:04d}/{folder_of}{key}.npy" for key in _ARRAYS}
            fields[part] = None if s is None else {"reference": s.reference, "reasons": {str(k): v for k, v in s.reasons.items()}, "arrays": names}
            if s is not None:
                arrays.update({name: getattr(s, key) for key, name in names.items()})
        for placement in fields["placements"]:
            placement["artwork"]["path"] = _relative(placement["artwork"]["path"], folder)
        for held in fields["hold_outs"]:
            held["path"] = _relative(held["path"], folder)
        tracks.append(fields)
    body = shot.model_dump(mode="json", exclude={"tracks"})
    if body["plate"]:
        body["plate"]["path"] = _relative(body["plate"]["path"], folder)
    body["tracks"] = tracks
    return {"format": FORMAT, "version": FORMAT_VERSION,
            "convention": "pixels, origin top left, x right, y down, first pixel's centre at 0.5,0.5; matrices map reference to frame",
            "shot": body}, arrays


def _joined(document: Any, archive: zipfile.ZipFile, path: Path) -> Shot:
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise ShotFileError(f"{path.name} is not a Wertis shot file; choose a file that ends in {SUFFIX}.")
    version = document.get("version")
    if not isinstance(version, int) or version < 1:
        raise ShotFileError(f"{path.name} has no sound version number; it is damaged.")
    if version > FORMAT_VERSION:
        raise ShotFileError(f"{path.name} was saved by a newer Wertis (format {version}, this one reads up to {FORMAT_VERSION}); "
                            "open it with that version.")
    body = document["shot"]
    folder = path.absolute().parent
    if body.get("plate"):
        body["plate"]["path"] = _absolute(body["plate"]["path"], folder)
    for track in body.get("tracks", []):
        for placement in track.get("placements", []):
            placement["artwork"]["path"] = _absolute(placement["artwork"]["path"], folder)
        for held in track.get("hold_outs", []):
            held["path"] = _absolute(held["path"], folder)
        for part in _SOLVED:
            solved = track.get(part)
            if solved is not None:
                loaded = {key: _array(archive, str(solved["arrays"][key]), kind) for key, kind in _ARRAYS.items()}
                track[part] = Solved(reference=solved["reference"], reasons={int(k): str(v) for k, v in solved["reasons"].items()}, **loaded)
    return Shot.model_validate(body)


def _member(archive: zipfile.ZipFile, name: str, most: int) -> bytes:
    """A member's bytes; its stated size is checked first, and no more than that is unpacked."""
    info = archive.getinfo(name)
    if info.file_size > most:
        raise ShotFileError(f"The part {name} claims {info.file_size} bytes, more than a shot holds; the file is damaged.")
    with archive.open(info) as part:
        data = part.read(info.file_size + 1)
    if len(data) != info.file_size:
        raise ShotFileError(f"The part {name} is not as long as it says; the file is damaged.")
    return data


def _array(archive: zipfile.ZipFile, name: str, kind: type) -> np.ndarray:
    data = io.BytesIO(_member(archive, name, MOST_ARRAY))
    version = np.lib.format.read_magic(data)
    reader = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
    shape, _, dtype = reader(data)
    size = dtype.itemsize
    for n in shape:
        size *= n
    if dtype != np.dtype(kind) or size > MOST_ARRAY or len(data.getbuffer()) - data.tell() != size:
        raise ShotFileError(f"The part {name} does not hold what it should; the file is damaged.")
    data.seek(0)
    return np.lib.format.read_array(data, allow_pickle=False)


def _relative(path: str, folder: Path) -> str:
    if not path:
        return path
    try:
        relative = os.path.relpath(path, folder)
    except ValueError:
        return path
    return relative if not relative.startswith(os.path.join("..", "..", "..")) else str(Path(path).absolute())


def _absolute(path: str, folder: Path) -> str:
    return path if not path or os.path.isabs(path) else os.path.normpath(folder / path)
