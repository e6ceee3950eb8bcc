"""The sheets in front of the window: history, settings, commands, keys, about."""

from typing import TypeVar

from platformdirs import user_data_path, user_state_path
from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtWidgets import QDialog

from cloudrift.desktop.frame.finder import Finder
from cloudrift.desktop.frame.help_sheet import AboutSheet, KeysSheet
from cloudrift.desktop.frame.history_sheet import HistorySheet
from cloudrift.desktop.frame.menus import Menus
from cloudrift.desktop.frame.notices import Notice, NoticesSheet
from cloudrift.desktop.frame.rail import STAGES
from cloudrift.desktop.frame.rooms import Rooms
from cloudrift.desktop.frame.settings_sheet import SettingsSheet
from cloudrift.desktop.frame.words_sheet import WordsSheet

_Sheet = TypeVar("_Sheet", bound=QDialog)


class Sheets(QObject):
    """Opens sheets; each is deleted when it is closed."""

    opening = pyqtSignal()  # one that asks to be answered

    def __init__(self, window: Rooms, menus: Menus, notice: Notice) -> None:
        super().__init__(window)
        self._window, self._session, self._menus = window, window.session, menus
        self._notice = notice

    def show(self, sheet: _Sheet) -> _Sheet:
        """Open a sheet that the window waits for."""
        self.opening.emit()
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()
        return sheet

    def _beside(self, sheet: _Sheet) -> _Sheet:
        """Show a sheet beside which work goes on."""
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.show()
        return sheet

    def history(self) -> HistorySheet:
        """Open the history beside the window."""
        return self._beside(HistorySheet(self._session, self._window))

    def commands(self) -> Finder:
        """Open the command finder."""
        return self.show(Finder(self._menus.commands, self._window))

    def settings(self) -> SettingsSheet:
        """Open the settings of the program."""
        return self.show(SettingsSheet(self._session, self._window))

    def keys(self) -> KeysSheet:
        """Show the keys of the stage that is open."""
        at = self._window.stack.currentIndex()
        stage = STAGES[at] if at < len(STAGES) else ""
        return self._beside(KeysSheet(stage, self._menus.commands, self._window))

    def notices(self) -> NoticesSheet:
        """Show the last notices again."""
        return self._beside(NoticesSheet(self._notice.said, self._window))

    def words(self) -> WordsSheet:
        """Show our own words on one page."""
        return self._beside(WordsSheet(self._window))

    def about(self) -> AboutSheet:
        """Say what Cloudrift is and where it keeps things."""
        places = (
            ("Settings", str(self._session.preferences.file)),
            ("Your finishes, sounds, progressions and templates", str(user_data_path("cloudrift"))),
            ("Unsaved work, and the log of errors", str(user_state_path("cloudrift"))),
        )
        return self.show(AboutSheet(places, self._window))
