"""Files dragged out of the window: made when whoever they are dropped on asks for them."""

import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from platformdirs import user_cache_path
from PyQt6.QtCore import QEventLoop, QMetaType, QMimeData, QObject, QPoint, Qt, QUrl
from PyQt6.QtGui import QDrag, QMouseEvent
from PyQt6.QtWidgets import QApplication, QWidget

from cloudrift.desktop.kit.parts import label

URIS = "text/uri-list"
OLD_S = 86_400.0  # what was dragged out a day ago has been taken
WIDEST_PX = 420

Make = Callable[[Path, Callable[[list[Path] | None], None]], None]


def dragged_folder() -> Path:
    """Return a new folder for what is dragged out now; what is old goes."""
    home = user_cache_path("cloudrift") / "dragged"
    home.mkdir(parents=True, exist_ok=True)
    for old in home.iterdir():
        if time.time() - old.stat().st_mtime > OLD_S:
            shutil.rmtree(old, ignore_errors=True)
    folder = home / f"{time.time_ns()}"
    folder.mkdir()
    return folder


class FilesWhenDropped(QMimeData):
    """Files that are made when their addresses are asked for; where that fails there are none.

    ``make`` begins to make them in a folder, beside the interface, and tells when they are there.
    """

    def __init__(self, make: Make) -> None:
        super().__init__()
        self._make = make
        self.paths: list[Path] | None = None

    def formats(self) -> list[str]:
        """Addresses of files."""
        return [URIS]

    def hasFormat(self, mime: str | None) -> bool:
        """Whether it is that."""
        return mime == URIS

    def retrieveData(self, mime: str | None, _kind: QMetaType) -> Any:
        """Make them, once, while the window goes on living; return their addresses."""
        if mime != URIS:
            return None
        if self.paths is None:
            loop = QEventLoop()
            came: list[list[Path] | None] = []

            def told(paths: list[Path] | None) -> None:
                came.append(paths)
                loop.quit()

            self._make(dragged_folder(), told)
            if not came:
                loop.exec(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)
            self.paths = (came[0] or []) if came else []
        return [QUrl.fromLocalFile(str(path)) for path in self.paths]


class Draggable(QObject):
    """Lets a widget be dragged out as files."""

    def __init__(self, widget: QWidget, make: Make, words: str) -> None:
        super().__init__(widget)
        self._widget, self._make, self._words = widget, make, words
        self._from: QPoint | None = None
        widget.setCursor(Qt.CursorShape.OpenHandCursor)
        widget.installEventFilter(self)

    def mime(self) -> FilesWhenDropped:
        """Return what is dragged."""
        return FilesWhenDropped(self._make)

    def eventFilter(self, _watched: QObject | None, event: Any) -> bool:
        if not isinstance(event, QMouseEvent):
            return False
        kind = event.type()
        if kind == QMouseEvent.Type.MouseButtonPress:
            self._from = event.position().toPoint()
        elif kind == QMouseEvent.Type.MouseMove and self._from is not None:
            away = (event.position().toPoint() - self._from).manhattanLength()
            if away >= QApplication.startDragDistance():
                self._from = None
                self.begin()
        elif kind == QMouseEvent.Type.MouseButtonRelease:
            self._from = None
        return False

    def begin(self) -> None:
        """Drag it."""
        drag = QDrag(self._widget)
        drag.setMimeData(self.mime())
        shown = label(self._words, size=12)
        shown.setMaximumWidth(WIDEST_PX)
        shown.setObjectName("panel")
        shown.adjustSize()
        drag.setPixmap(shown.grab())
        drag.exec(Qt.DropAction.CopyAction)
