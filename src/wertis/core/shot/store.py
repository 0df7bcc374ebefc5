"""The shot file: a zip with `shot.json` and `.npy` members. docs/formats.md describes it. Nothing in it is ever executed."""

import hashlib
import io
import json
import os
import tokenize
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from wertis.core.errors import ShotFileError
from wertis.core.files import replacing
from wertis.core.shot.document import FORMAT_VERSION, Shot
from wertis.core.shot.fields import NamesFile, Record, mapped
from wertis.core.shot.migrations import brought_up

SUFFIX = ".wertis"
FORMAT = "wertis-shot"
DOCUMENT = "shot.json"
ARRAYS = "arrays"  # folder of the members that hold arrays
MOST_JSON = 64 << 20
MOST_ARRAY = 512 << 20
_DEEPEST = 200  # lists and tables within each other that a document may have

Member = Callable[[str, int], bytes]
"""Gives a part of a shot's file by its name, no longer than so many bytes."""


def save(shot: Shot, path: Path) -> None:
    """Write the shot; the file is whole or unchanged. Paths to plates and artwork are kept relative to it where that is shorter to move.

    Raises
    ------
    ShotFileError
        When it cannot be written.
    """
    document, arrays = parted(shot, path.absolute().parent)
    with replacing(path, ShotFileError) as temporary, zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(DOCUMENT, document)
        for name, array in arrays.items():
            archive.writestr(name, array_bytes(array))


def load(path: Path) -> Shot:
    """Read a shot file.

    Raises
    ------
    ShotFileError
        When it is not a shot file, is damaged, or comes from a newer Wertis.
    """
    if not path.is_file():
        raise ShotFileError(f"{path} does not exist; check the name.")

    def whole() -> Shot:
        with zipfile.ZipFile(path) as archive:
            return joined(lambda name, most: _member(archive, name, most), path, path.absolute().parent)

    return guarded(whole, path)


def guarded(read: Callable[[], Shot], path: Path) -> Shot:
    """What `read` gives; whatever goes wrong with a damaged file becomes a ShotFileError."""
    try:
        return read()
    except ShotFileError:
        raise
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError, KeyError, TypeError, ValueError, AttributeError, IndexError,
            RecursionError, RuntimeError, OSError, MemoryError, SyntaxError, tokenize.TokenError, zlib.error) as why:
        detail = "; ".join(f"{'.'.join(map(str, e['loc']))}: {e['msg']}" for e in why.errors()[:3]) \
            if isinstance(why, ValidationError) else str(why)
        raise ShotFileError(f"{path.name} is not a shot file that can be opened ({detail or type(why).__name__}); it may be damaged or "
                            "another kind of file. Open a copy of it, or an earlier save.") from why


def parted(shot: Shot, folder: Path) -> tuple[str, dict[str, np.ndarray]]:
    """A shot as the text of its document, with paths relative to a folder where they are near, and the arrays beside it by their members' names.

    An array's name is made of its contents, so that the same one is written once, and one that has not changed keeps its name.
    """
    arrays: dict[str, np.ndarray] = {}
    body = _plain(mapped(shot, lambda path, _: _relative(path, folder), NamesFile), arrays)
    document = {"format": FORMAT, "version": FORMAT_VERSION,
                "convention": "pixels, origin top left, x right, y down, first pixel's centre at 0.5,0.5; matrices map reference to frame",
                "shot": body}
    return json.dumps(document, indent=1, ensure_ascii=False), arrays


def joined(member: Member, path: Path, folder: Path) -> Shot:
    """The shot of a document and its arrays; `path` is what messages call it, `folder` what its relative paths begin from."""
    document = json.loads(member(DOCUMENT, MOST_JSON).decode("utf-8"))
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise ShotFileError(f"{path.name} is not a Wertis shot file; choose a file that ends in {SUFFIX}.")
    version = document.get("version")
    if not isinstance(version, int) or version < 1:
        raise ShotFileError(f"{path.name} has no sound version number; it is damaged.")
    if version > FORMAT_VERSION:
        raise ShotFileError(f"{path.name} was saved by a newer Wertis (format {version}, this one reads up to {FORMAT_VERSION}); "
                            "open it with that version.")
    body = _with_arrays(brought_up(document["shot"], version, FORMAT_VERSION), member)
    shot = Shot.model_validate(body)
    return mapped(shot, lambda p, _: _absolute(p, folder), NamesFile)


def array_bytes(array: np.ndarray) -> bytes:
    """An array as a .npy file (NumPy format 1.0, no pickle)."""
    data = io.BytesIO()
    np.lib.format.write_array(data, np.ascontiguousarray(array), allow_pickle=False)
    return data.getvalue()


# -- inside -------------------------------------------------------------------------------------------------------


def _plain(value: Any, arrays: dict[str, np.ndarray]) -> Any:
    """A record's value as JSON; arrays go into `arrays` and leave their names."""
    if isinstance(value, np.ndarray):
        kept = np.ascontiguousarray(value)
        digest = hashlib.sha256(f"{kept.dtype.str} {kept.shape}".encode() + kept.tobytes()).hexdigest()[:32]
        name = f"{ARRAYS}/{digest}.npy"
        arrays[name] = value
        return {"array": name}
    if isinstance(value, Record):
        return {name: _plain(getattr(value, name), arrays) for name in type(value).model_fields}
    if isinstance(value, tuple | list):
        return [_plain(v, arrays) for v in value]
    if isinstance(value, dict):
        return {str(k): _plain(v, arrays) for k, v in value.items()}
    return value


def _with_arrays(value: Any, member: Member, depth: int = 0) -> Any:
    """The JSON with every array's name replaced by the array."""
    if depth > _DEEPEST:
        raise ValueError("too many lists within each other")
    if isinstance(value, dict):
        if set(value) == {"array"}:
            return _array(member, str(value["array"]))
        return {k: _with_arrays(v, member, depth + 1) for k, v in value.items()}
    if isinstance(value, list):
        return [_with_arrays(v, member, depth + 1) if isinstance(v, dict | list) else v for v in value]
    return value


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


def _array(member: Member, name: str) -> np.ndarray:
    data = io.BytesIO(member(name, MOST_ARRAY))
    version = np.lib.format.read_magic(data)
    reader = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
    shape, _, dtype = reader(data)
    size = dtype.itemsize
    for n in shape:
        size *= n
    if dtype.hasobject or size > MOST_ARRAY or len(data.getbuffer()) - data.tell() != size:
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
