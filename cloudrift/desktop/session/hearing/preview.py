"""Another loop heard and shown without a change: whose it is, and that it ends with its owner."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, pyqtSignal

from cloudrift.desktop.session.document.document import OpenDocument
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.loop import Loop

Edit = Callable[[Loop], Loop]


class PreviewStack(QObject):
    """The previews that are up, the last in front; ``changed`` when that is another."""

    changed = pyqtSignal()

    def __init__(self, document: OpenDocument, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.document = document
        self._previews: tuple[Preview, ...] = ()

    def __bool__(self) -> bool:
        return bool(self._previews)

    @property
    def front(self) -> Preview | None:
        """The preview in front."""
        return self._previews[-1] if self._previews else None

    def put(self, preview: Preview) -> None:
        """Put a preview in front; what is shown instead of the open loop stays before others."""
        others = (one for one in self._previews if one is not preview)
        self._previews = tuple(sorted((*others, preview), key=lambda one: one.instead))
        self.changed.emit()

    def remove(self, preview: Preview) -> None:
        """Take a preview off the stack; if it was in front, the next one is in front."""
        self._previews = tuple(one for one in self._previews if one is not preview)
        self.changed.emit()

    def follow(self, loop: Loop) -> bool:
        """The open loop is another now; return whether a preview was up, and so is another too."""
        there = bool(self._previews)
        self._previews = tuple(one for one in self._previews if one.follow(loop))
        return there

    def clear(self) -> None:
        """Drop all of them: another document is open, or none."""
        previews, self._previews = self._previews, ()
        for preview in previews:
            preview.drop()


class Preview(QObject):
    """A view's way to let an edit, or another loop, be heard in place before anything is changed.

    The session shows what was put last; when that ends, what stood before it is shown again. An
    edit is made again of each loop that comes, so that what is changed meanwhile is heard with it;
    a whole other loop gives way to the first change. It ends with ``end``, when its view is
    hidden or gone, when another document is opened, when the session is closed, or when its
    edit can no longer be made.
    """

    ended = pyqtSignal()

    def __init__(self, previews: PreviewStack, view: QObject) -> None:
        super().__init__(view)
        self._previews = previews
        self._edit: Edit | None = None
        self.loop: Loop | None = None  # what is shown; None while it does not stand
        self.words = ""  # what the heading says of it
        self.alone: frozenset[str] | None = None
        self.instead = False
        view.installEventFilter(self)
        view.destroyed.connect(self.end)

    @property
    def on(self) -> bool:
        """Whether it stands, in front or behind another."""
        return self.loop is not None

    def put(
        self,
        what: Edit | Loop,
        words: str,
        *,
        alone: frozenset[str] | None = None,
        instead: bool = False,
    ) -> None:
        """Show and hear what an edit makes of the loop, or another loop; raise what the edit does.

        ``alone`` are the layers that are heard of it; those that are heard of the open loop where
        nothing is said. One that is shown ``instead`` of the open loop lets nothing change that
        until it ends.
        """
        if isinstance(what, Loop):
            self.loop, self._edit = what, None
        else:
            self.loop, self._edit = what(self._previews.document.loop), what
        self.words, self.alone, self.instead = words, alone, instead
        self._previews.put(self)

    def follow(self, loop: Loop) -> bool:
        """The open loop is another now: make the edit of that; say whether it still stands."""
        if self.instead:
            return True
        try:
            self.loop = self._edit(loop) if self._edit else None
        except CloudriftError:
            self.loop = None
        if self.loop is None:
            self.ended.emit()
        return self.on

    def end(self) -> None:
        """Hear what is behind it again."""
        if self.on:
            self.loop = None
            self._previews.remove(self)
            self.ended.emit()

    def drop(self) -> None:
        """Another document is open: nothing is heard of it any more."""
        if self.on:
            self.loop = None
            self.ended.emit()

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Hide and not event.spontaneous():
            self.end()
        return False
