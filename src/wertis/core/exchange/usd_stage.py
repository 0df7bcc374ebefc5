"""What all USD files share: the library, which not everybody has, and a stage that takes its name when it is whole."""

import contextlib
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
