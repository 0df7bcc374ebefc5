"""A patch, in the outline."""

from wertis.app.item_kinds import ItemKind, register
from wertis.core.shot.patches import Patch

register(ItemKind(Patch, "Patch", "mdi6.bandage", "Use", tip="A flat picture taken out of the plate, painted and given back. Tick to show or hide it."))
