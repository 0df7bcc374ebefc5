"""The steps of the work: a package for each, found by being here, with its page, tools, overlays, lanes, commands and words."""

from importlib import import_module
from pkgutil import iter_modules

from wertis.app.step import Step

for _package in sorted(m.name for m in iter_modules(__path__) if m.ispkg):
    import_module(f"{__name__}.{_package}.step")


def all_steps() -> list[type[Step]]:
    """The steps in the order of the work."""
    return sorted(Step.known, key=lambda s: s.order)


__all__ = ["Step", "all_steps"]
