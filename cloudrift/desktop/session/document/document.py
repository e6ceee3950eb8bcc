"""The open document: its history, its file, and what of it is kept against a crash."""

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.session.document.keeper import Keeper
from cloudrift.desktop.session.document.saver import Saver, Written
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.files.storage import signature, with_suffix
from cloudrift.loop.model import spec
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.history import History
from cloudrift.loop.model.loop import Loop

_Made = TypeVar("_Made")
HIDDEN = (
    "that would change a loop that is not shown; start with this one, or go back to the open one "
    "first"
)


class OpenDocument(QObject):
    """One document at a time. It is changed by ``apply``, ``make`` and ``change`` alone."""

    moved = pyqtSignal(object, bool)  # Loop before; whether a hand is still moving
    replaced = pyqtSignal(object)  # Loop before: another document is open
    saved = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(
        self,
        what: Loop | Document,
        path: Path | None,
        shelter: Shelter,
        clips: ClipStore,
        hidden: Callable[[], bool],
        parent: QObject | None = None,
    ) -> None:
        """``hidden`` says whether another loop is shown in this one's place.

        Then nothing is changed: what is not seen is not.
        """
        super().__init__(parent)
        self.history = History.of(what)
        self.path, self._seen = path, signature(path)
        self.begun = False  # whether somebody has chosen this loop, rather than the program
        self._recovered = False  # whether it was left by a crash
        self._saved = self.history.now if path else None
        self._opened = 0  # how many documents have been opened before this one
        self._clips, self._hidden = clips, hidden
        self.shelter = shelter
        self.keeper = Keeper(shelter, clips, self)
        self.keeper.failed.connect(self.refused)
        self.saver = Saver(self)
        self._autosave = QTimer(self)
        self._autosave.setInterval(spec.AUTOSAVE_EVERY_S * 1000)
        self._autosave.timeout.connect(self._keep_soon)
        self._autosave.start()

    @property
    def loop(self) -> Loop:
        """The loop as it is now."""
        return self.history.now.loop

    # --- changing it --------------------------------------------------------------------------

    def apply(
        self, label: str, edit: Callable[[Loop], Loop], *, merge: str = "", moving: bool = False
    ) -> bool:
        """Change the loop; say whether it changed. ``merge`` joins the steps of one drag.

        ``moving`` says that a hand is on its way over a picture: then the picture comes first and
        the sound follows when the hand rests, or now and then while the loop plays. An edit that
        is refused leaves everything as it is and is said in words.
        """
        before = self.loop
        self.make(label, lambda loop: (edit(loop), None), merge=merge, moving=moving)
        return self.loop is not before

    def make(
        self,
        label: str,
        edit: Callable[[Loop], tuple[Loop, _Made]],
        *,
        merge: str = "",
        moving: bool = False,
    ) -> _Made | None:
        """Change the loop by an edit that hands back what it made; return that.

        None where the edit was refused. All else is as in ``apply``.
        """
        if self._is_hidden():
            return None
        try:
            after, made = edit(self.loop)
        except CloudriftError as error:
            self.refused.emit(str(error))
            return None
        self._go(self.history.then(self.history.now.with_loop(after), label, merge), moving=moving)
        return made

    def change(
        self,
        label: str,
        edit: Callable[[Document], Document],
        *,
        merge: str = "",
        moving: bool = False,
    ) -> bool:
        """Change the loop and what stands beside it, as ``apply`` does; say whether it changed."""
        if self._is_hidden():
            return False
        before = self.history.now
        try:
            after = edit(before)
        except CloudriftError as error:
            self.refused.emit(str(error))
            return False
        self._go(self.history.then(after, label, merge), moving=moving)
        return self.history.now is not before

    def end_drag(self) -> None:
        """Let the next edit be a step of its own."""
        self.history = self.history.closed()

    def undo(self) -> None:
        """Take the last edit back."""
        if not self._is_hidden():
            self._go(self.history.undone())

    def redo(self) -> None:
        """Bring an undone edit again."""
        if not self._is_hidden():
            self._go(self.history.redone())

    def go_to(self, at: int) -> None:
        """Go to a moment of the history."""
        if not self._is_hidden():
            self._go(self.history.gone_to(at))

    def _is_hidden(self) -> bool:
        hidden = self._hidden()
        if hidden:
            self.refused.emit(HIDDEN)
        return hidden

    def _go(self, history: History, *, moving: bool = False) -> None:
        before, self.history = self.history.now, history
        if history.now is not before:
            self.moved.emit(before.loop, moving)

    # --- files --------------------------------------------------------------------------------

    def open(self, what: Loop | Document, path: Path | None, *, unsaved: bool = False) -> None:
        """Put another document in place of this one; what was unsaved must have been asked for."""
        before = self.loop
        self._opened += 1
        self.keeper.forget()
        self.history = History.of(what)
        self.path, self._seen = path, signature(path)
        self.begun = True
        self._recovered = unsaved
        self._saved = None if unsaved or path is None else self.history.now
        self.replaced.emit(before)

    @property
    def is_saved(self) -> bool:
        """Whether the loop is as it is on disk."""
        return self.history.now == self._saved

    @property
    def would_be_lost(self) -> bool:
        """Whether letting go of the loop now would lose somebody's work."""
        return not self.is_saved and (self.history.can_undo or self.begun)

    @property
    def is_untouched(self) -> bool:
        """Whether the loop is as it was begun: the start page makes the same again."""
        begun = self.path is None and not self._recovered
        return begun and not (self.history.can_undo or self.history.can_redo)

    @property
    def is_changed_outside(self) -> bool:
        """Whether another program has written the loop's file since it was opened or saved."""
        return self.path is not None and signature(self.path) not in (self._seen, None)

    def save(self, path: Path, then: Callable[[bool], object] = lambda _good: None) -> None:
        """Write the loop as it is now, beside the interface; ``then`` hears whether it went well.

        A failure is said, and changes nothing. What is changed meanwhile is not saved.
        """
        opened = self._opened

        def answer(written: Written) -> None:
            if written.wrong:
                self.refused.emit(written.wrong)
            elif opened == self._opened:  # no other has been opened
                self.path, self._saved, self._seen = written.path, written.document, written.seen
                if self.is_saved:
                    self.keeper.forget()
                self.saved.emit()
            then(not written.wrong)

        self.saver.save(self.history.now, with_suffix(path), self._clips, answer)

    def keep_unsaved(self) -> bool:
        """Keep what is not saved against a crash, now; say whether it is safe."""
        return not self.would_be_lost or self.keeper.keep(self.history.now, self.path)

    def _keep_soon(self) -> None:
        if self.would_be_lost:
            self.keeper.keep_soon(self.history.now, self.path)

    def stop(self) -> None:
        """Write nothing more than what is being written."""
        self._autosave.stop()
        self.saver.stop()
