"""A matte in the outline."""

from wertis.app import theme
from wertis.app.item_kinds import ItemKind, register
from wertis.core.shot.mattes import Matte

register(ItemKind(Matte, "Matte", "mdi6.vector-curve", "Use", theme.AMBER, "A matte: drawn shapes that its track carries. Tick to switch it on or off.",
                  may_be_free=True))
