"""The details: the settings of the step in hand, for what is selected."""


from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea

from wertis.app.pages.base import Pages
from wertis.app.pages.check import CheckPage
from wertis.app.pages.deliver import DeliverPage
from wertis.app.pages.plate import PlatePage
from wertis.app.pages.region import RegionPage
from wertis.app.pages.repair import RepairPage
from wertis.app.pages.track import TrackPage
from wertis.app.pages.use import UsePage
from wertis.app.session import STEPS, Session


class Details(QScrollArea):
    """One page for each step."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setFixedWidth(272)
        self.plate, self.region, self.track, self.check, self.repair, self.use, self.deliver = (
            PlatePage(session), RegionPage(session), TrackPage(session), CheckPage(session), RepairPage(session), UsePage(session), DeliverPage(session))
        self._pages = Pages((self.plate, self.region, self.track, self.check, self.repair, self.use, self.deliver))
        self.setWidget(self._pages)
        self._show(STEPS[0])
        session.step_changed.connect(self._show)

    def _show(self, step: str) -> None:
        self._pages.bring(STEPS.index(step))
