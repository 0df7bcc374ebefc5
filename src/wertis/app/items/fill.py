"""A colour laid inside a matte, in the outline."""

from wertis.app.item_kinds import ItemKind, register
from wertis.core.shot.fills import Fill

register(ItemKind(Fill, "Colour", "mdi6.format-color-fill", "Use", tip="A colour laid inside a matte, such as a drawn line. Tick to show or hide it."))
