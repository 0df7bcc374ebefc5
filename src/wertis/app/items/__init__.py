"""The kinds of items that hang on tracks, as the window shows them: a module for each kind, found by being here."""

from importlib import import_module
from pkgutil import iter_modules

from wertis.app.item_kinds import ItemKind, kind_of

for _module in sorted(m.name for m in iter_modules(__path__)):
    import_module(f"{__name__}.{_module}")

__all__ = ["ItemKind", "kind_of"]
