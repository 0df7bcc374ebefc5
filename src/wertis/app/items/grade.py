"""A grade in the outline."""

from wertis.app.item_kinds import ItemKind, register
from wertis.core.shot.grades import Grade

register(ItemKind(Grade, "Grade", "mdi6.palette-outline", "Use", tip="A grade: colours changed inside mattes, or everywhere. Tick to switch it."))
