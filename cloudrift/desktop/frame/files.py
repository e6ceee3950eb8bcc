"""Loop files: opened, saved, kept to begin from; and what becomes of changes that are not saved."""

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QWidget

from cloudrift.desktop.kit.asking import ask, ask_for_name
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import free_name, some_of
from cloudrift.loop.files.kept import keep, row_folder, row_of, template_folder
from cloudrift.loop.files.storage import SUFFIX, load_document, with_suffix
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop

SAID_MS = 400  # what takes longer is said
FILE_KINDS = f"Loops (*{SUFFIX})"


class Files(QObject):
    """Asks, in front of a window, for places and for what is to become of changes."""

    wanted = pyqtSignal()  # the open loop is meant: it is to be shown
    opened = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks, window: QWidget) -> None:
        super().__init__(window)
        self._session, self._tasks, self._window = session, tasks, window
        self._opening: Path | None = None

    def leave_then(
        self, go: Callable[[], object], stay: Callable[[], object] = lambda: None
    ) -> None:
        """Let go of the loop to do something else, when it is settled what becomes of changes."""
        self._session.document.saver.when_rested(lambda: self._ask_then(go, stay))

    def _ask_then(self, go: Callable[[], object], stay: Callable[[], object]) -> None:
        session = self._session
        if not session.document.would_be_lost:
            go()
            return
        words = f"{session.loop.title} has unsaved changes."
        chosen = ask(self._window, "Not saved", words, "Save", "Discard", "Cancel")
        if chosen == "Save":  # and ask again if it was changed while it was written
            self.save(lambda good: self.leave_then(go, stay) if good else stay())
        elif chosen == "Discard":
            go()
        else:
            stay()

    def save(self, then: Callable[[bool], object] = lambda _good: None) -> None:
        """Save; asks for a place the first time. From the start page: the loop that it leads to.

        ``then`` hears, when all is written, whether it is.
        """
        self.wanted.emit()
        if self._session.document.path is None:
            self.save_as(then)
        else:
            self.save_to(self._session.document.path, then)

    def save_to(self, path: Path, then: Callable[[bool], object] = lambda _good: None) -> None:
        """Save there; where another program has written the file meanwhile, it is asked."""
        session = self._session
        if path == session.document.path and session.document.is_changed_outside:
            other = self._beside(path)
            if other is None:
                then(False)
                return
            path = other

        def written(good: bool) -> None:
            if good:
                self._session.preferences.opened(path)
                self._session.say(f"Saved {path}", good=True)
            then(good)

        session.document.save(path, written)
        QTimer.singleShot(SAID_MS, self._say_saving)

    def _say_saving(self) -> None:
        if self._session.document.saver.busy:
            self._session.say("Saving…", good=True)

    def save_as(self, then: Callable[[bool], object] = lambda _good: None) -> None:
        """Ask for a place and save there; ``then`` as in ``save``."""
        self.wanted.emit()
        name = self._session.loop.title.replace("/", "-") + SUFFIX
        chosen, _ = QFileDialog.getSaveFileName(
            self._window, "Save the loop", str(self._loop_folder / name), FILE_KINDS
        )
        path = with_suffix(Path(chosen))
        # The dialog has asked about the name as it was typed.
        asks = path != Path(chosen) and path.exists()
        if chosen and (not asks or self._may_replace(path)):
            self.save_to(path, then)
        else:
            then(False)

    def _beside(self, path: Path) -> Path | None:
        """Ask what to do where another program has written the file; None means: go back."""
        free = path.with_name(
            free_name(path.stem, (one.stem for one in path.parent.glob(f"*{SUFFIX}"))) + SUFFIX
        )
        words = (
            f"{path.name} was changed by another program since you opened it. Keep both, and save "
            f"this one as {free.name}?"
        )
        title = "Changed by another program"
        chosen = ask(self._window, title, words, "Keep both", "Replace it", "Cancel")
        return {"Keep both": free, "Replace it": path}.get(chosen)

    def _may_replace(self, path: Path) -> bool:
        words = f"{path.name} already exists. Replace it?"
        return ask(self._window, "File exists", words, "", "Replace it", "Cancel") == "Replace it"

    @property
    def _loop_folder(self) -> Path:
        """Where loop files are asked for: beside the open one."""
        path = self._session.document.path
        return path.parent if path else self._session.preferences.folder

    def keep_template(self) -> None:
        """Keep the open loop to begin others from; its name is asked for."""
        self.wanted.emit()
        title = self._session.loop.title
        name = ask_for_name(self._window, "Keep as a template", "Name of the template", title)
        if name:
            self._keep(
                self._session.loop,
                name,
                template_folder(),
                "to start from: Start a loop, A template",
            )

    def keep_row(self) -> None:
        """Put the open loop's chords on the shelf of rows; their name is asked for."""
        self.wanted.emit()
        title = self._session.loop.title
        name = ask_for_name(self._window, "Save the progression", "Name of the progression", title)
        if name:
            try:
                row = row_of(self._session.loop)
            except CloudriftError as error:
                self._session.say(str(error))
                return
            self._keep(row, name, row_folder(), "under Progressions in the Chords stage")

    def _keep(self, loop: Loop, name: str, folder: Path, where: str) -> None:
        try:
            one = keep(loop, name, folder, self._session.clips)
        except CloudriftError as error:
            self._session.say(str(error))
        else:
            self._session.say(f"Kept {one.name} {where}", good=True)

    def ask_to_open(self) -> None:
        """Ask for a loop file and open it."""
        folder = str(self._loop_folder)
        chosen, _ = QFileDialog.getOpenFileName(self._window, "Open a loop", folder, FILE_KINDS)
        if chosen:
            self.open_file(Path(chosen))

    def open_file(self, path: Path) -> None:
        """Read a loop file beside the interface and open it; a bad one is said, nothing changes."""
        clips, say = self._session.clips, self._session.say
        self._opening = path
        renewed: list[str] = []

        def read(document: Document) -> None:
            self._opening = None
            self.leave_then(lambda: self._open(document, path, renewed))

        def failed(error: Exception) -> None:
            if not isinstance(error, Cancelled):  # another is being opened
                self._opening = None
                say(str(error))

        self._tasks.run(
            "open",
            lambda _stop, _moved: load_document(path, clips, renewed=renewed.extend),
            read,
            failed,
            lane=Lane.OPENING,
        )
        QTimer.singleShot(SAID_MS, self._say_opening)

    def _say_opening(self) -> None:
        if self._opening is not None:
            self._session.say(f"Opening {self._opening.name}…", good=True)

    def _open(self, document: Document, path: Path, renewed: Sequence[str]) -> None:
        self._session.document.open(document, path)
        self._session.preferences.opened(path)
        self.opened.emit()
        self.say_what_is_other(document, path, renewed)

    def say_what_is_other(self, document: Document, path: Path, renewed: Sequence[str]) -> None:
        """Say what of an opened file is not known here, or which layers (by name) sound renewed."""
        strange = list(document.loop.unknown)
        if document.newer is not None:
            strange.append("data that a newer version of the program added")
        if strange:
            self._session.say(
                f"{path.name} contains data this version does not know; it stays in the file: "
                f"{'; '.join(strange)}"
            )
        elif renewed:
            play = "now plays" if len(renewed) == 1 else "now play"
            self._session.say(
                f"{path.name}: {some_of(renewed)} {play} today's design of the sound, as loud as "
                "before",
                good=True,
            )
