"""Wertis: track surfaces in a shot, repair the track, and make graphics stick to it.

    import wertis

    shot = wertis.open("plate.####.exr")
    wall = shot.track(region, frame=1001, model="perspective")
    print(wall.check().worst)
    wall.repair(limit=0.3)
    wall.place("poster.png", corners)
    shot.render("out/comp.####.exr")
    shot.save("wall.wertis")

docs/scripting.md says the rest. Nothing heavy is loaded before it is used, and importing changes nothing in the program that imports.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from wertis.core.errors import WertisError
    from wertis.scripting import Placed, Shot, Surface, open

__version__ = "0.1.0"
__all__ = ["Placed", "Shot", "Surface", "WertisError", "__version__", "open"]


def __getattr__(name: str) -> Any:
    if name == "WertisError":
        from wertis.core.errors import WertisError

        return WertisError
    if name in ("Placed", "Shot", "Surface", "open"):
        from wertis import scripting

        return getattr(scripting, name)
    raise AttributeError(f"module 'wertis' has no attribute {name!r}")
