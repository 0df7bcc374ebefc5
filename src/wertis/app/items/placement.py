"""A placement in the outline."""

from wertis.app.item_kinds import ItemKind, register
from wertis.core.shot.document import Placement

register(ItemKind(Placement, "Graphic", "mdi6.image-outline", "Use", tip="A graphic on the surface. Tick to show or hide it."))
