"""Another loop heard and shown without a change: whose it is, and that it ends with its owner."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QObject, pyqtSignal

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.loop import Loop

if TYPE_CHECKING:
    from cloudrift.desktop.session.session import Session

Edit = Callable[[Loop], Loop]


class Preview(QObject):
    """A view's way to let an edit, or another loop, be heard in place before anything is changed.

    The session shows what was put last; when that ends, what stood before it is shown again. An
    edit is made anew of each loop that comes, so that what is changed meanwhile is heard with it;
    a whole other loop gives way to the first change. It ends with ``end``, when its view is
    hidden or gone, when another document is opened, when the session is closed, or when its
    edit can no longer be made.
    """

    ended = pyqtSignal()

    def __init__(self, session: Session, view: QObject) -> None:
        super().__init__(view)
        self._session = session
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
        self, what: Edit | Loop, words: str, *, alone: frozenset[str] | None = None,
        instead: bool = False,
    ) -> None:  # fmt: skip
        """Show and hear what an edit makes of the loop, or another loop; raise what the edit does.

        ``alone`` are the layers that are heard of it; those that are heard of the open loop where
        nothing is said. One that is shown ``instead`` of the open loop lets nothing change that
        until it ends.
        """
        if isinstance(what, Loop):
            self.loop, self._edit = what, None
        else:
            self.loop, self._edit = what(self._session.loop), what
        self.words, self.alone, self.instead = words, alone, instead
        self._session.hearing.put_preview(self)

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
            self._session.hearing.end_preview(self)
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
