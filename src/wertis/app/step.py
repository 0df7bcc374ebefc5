"""What a step of the work is: everything that belongs to it stands in its own package, and the window asks it through this."""

from typing import ClassVar

from wertis.app.commands import Command
from wertis.app.display import SteadyWish
from wertis.app.overlay import Overlay
from wertis.app.pages import Page
from wertis.app.tools import Tool
from wertis.app.workbench import Workbench


class Step(Overlay):
    """A step. A step is registered by defining its class.

    Attributes
    ----------
    name : as the strip shows it.
    order : its place in the strip.
    begins_with : what was opened, of "plate", "tracks" and "items", that brings this step.
    steady : how it wants the steady view.
    looks_at_plate : while a point is dragged, magnifiers show the plate, so that the comp may be made small.
    page : its settings.
    """

    known: ClassVar[list[type["Step"]]] = []

    name: ClassVar[str]
    order: ClassVar[int]
    begins_with: ClassVar[frozenset[str]] = frozenset()
    steady: SteadyWish = SteadyWish()
    looks_at_plate: ClassVar[bool] = False
    page: Page

    def __init_subclass__(cls) -> None:
        Step.known.append(cls)

    def __init__(self, bench: Workbench) -> None:
        self.bench, self.session = bench, bench.session

    @property
    def current(self) -> bool:
        """Whether it is the step in hand."""
        return self.session.step == self.name

    def bring(self) -> None:
        """Make it the step in hand."""
        self.session.go_step(self.name)

    def commands(self) -> list[Command]:
        """What can be done in it."""
        return []

    def words(self) -> str:
        """Its state in a few words; empty when there is nothing to say."""
        return ""

    def hint(self) -> str:
        """What to do first in it."""
        return ""

    def tool_wanted(self) -> tuple[str, ...]:
        """Which tool belongs in hand, by what it works on; empty for none."""
        return ()

    def tool(self, wanted: tuple[str, ...]) -> Tool | None:
        """That tool."""
        return None

    def key_marks(self) -> list[int]:
        """Frames with keys of the part in hand, which the lanes mark with squares."""
        return []

    def measured(self) -> dict[int, float]:
        """Frame to how far something in hand is off, in pixels, which the lanes draw beside the drift; empty for nothing."""
        return {}

    def move_key_mark(self, frame: int, to: int, copy: bool) -> bool:
        """Keys of the part in hand were dragged in the lanes from a frame to another, or copied; whether that can be done."""
        return False

    def left(self) -> None:
        """Another step was brought."""

    def escape(self) -> bool:
        """Give up what is being done; whether anything was."""
        return False
