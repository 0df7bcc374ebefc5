"""What all USD files share: the library, which not everybody has, and a stage that takes its name when it is whole."""

import contextlib
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from wertis.core.errors import DeliverError
from wertis.core.files import replacing


def usd_library() -> Any:
    """OpenUSD's Python package.

    Raises
    ------
    DeliverError
        When it is not installed.
    """
    try:
        import pxr
        from pxr import Gf, Sdf, Usd, UsdGeom, Vt  # noqa: F401  so that they are there as the package's own
    except ImportError as why:
        raise DeliverError("USD needs the package usd-core; install it with: pip install usd-core. Or choose another format.") from why
    return pxr


_READ_ALL = """
import sys
from pxr import Usd
stage = Usd.Stage.Open(sys.argv[1])  # held, or its prims expire
for prim in stage.Traverse():
    prim.GetCustomData()
    for attribute in prim.GetAttributes():
        for time in attribute.GetTimeSamples() or [Usd.TimeCode.Default()]:
            attribute.Get(time)
"""
_PATIENCE, _PER_MEGABYTE = 4.0, 2.0  # seconds for reading a file, and as many more for each megabyte: some damaged ones are never done


def read_stage(path: Path) -> Any:
    """A stage that is read from a file.

    OpenUSD ends the whole process on some damaged binary files, so another process reads all of it first.

    Raises
    ------
    DeliverError
        When the library is not installed, or the file cannot be read.
    """
    pxr = usd_library()
    try:
        patience = _PATIENCE + _PER_MEGABYTE * (path.stat().st_size if path.is_file() else 0) / 1e6
        tried = subprocess.run([sys.executable, "-c", _READ_ALL, str(path)], capture_output=True, timeout=patience, check=False)
    except subprocess.TimeoutExpired as why:
        raise DeliverError(f"{path.name} could not be read within {patience:.0f} s; it may be damaged. Export it again.") from why
    if tried.returncode:
        last = (tried.stderr.decode("utf-8", "replace").strip().splitlines() or ["its library ended on it"])[-1]
        raise DeliverError(f"{path.name} cannot be read as USD ({last if tried.returncode > 0 else 'its library ended on it'}); export it again.")
    return pxr.Usd.Stage.Open(str(path))


def reason(error: Exception) -> str:
    """What an error of the library says, in one line; its kind where it says nothing, or nothing that is text, as of a damaged file."""
    try:
        return (str(error).strip() or type(error).__name__).splitlines()[0]
    except UnicodeDecodeError:
        return "it is damaged"


@contextlib.contextmanager
def written_stage(path: Path, frames: Sequence[int], fps: float) -> Iterator[Any]:
    """A new stage, y up, frames as time codes, which is saved under its name on leaving.

    Raises
    ------
    DeliverError
        When the library is not installed, or the file cannot be written.
    """
    pxr = usd_library()
    with replacing(path) as temporary:
        part = temporary.with_name(temporary.name + path.suffix)  # the library goes by the file's ending
        try:
            stage = pxr.Usd.Stage.CreateNew(str(part))
            pxr.UsdGeom.SetStageUpAxis(stage, pxr.UsdGeom.Tokens.y)
            pxr.UsdGeom.SetStageMetersPerUnit(stage, pxr.UsdGeom.LinearUnits.centimeters)  # as readers take it; pixels have no scale
            stage.SetStartTimeCode(frames[0])
            stage.SetEndTimeCode(frames[-1])
            stage.SetTimeCodesPerSecond(fps)
            stage.SetFramesPerSecond(fps)
            yield stage
            stage.GetRootLayer().Save()
            del stage
            part.replace(temporary)
        finally:
            part.unlink(missing_ok=True)
