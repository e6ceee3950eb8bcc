"""Recordings: a search, a list, words on the one looked at; heard in place before it is used."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QMenu, QTreeWidgetItem, QWidget

from cloudrift.desktop.kit.asking import ask_for_folder
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import fill
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    button,
    label,
    progress_bar,
    search_field,
    set_look,
)
from cloudrift.desktop.kit.rest import Rest
from cloudrift.desktop.kit.rows import row
from cloudrift.desktop.kit.side_tool import InPlace, SideTool
from cloudrift.desktop.kit.tables import listing
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.find.fields import WITHIN_PERCENT, WITHIN_ST, Fetched
from cloudrift.desktop.stages.find.rows import about, text_of, wanted_in
from cloudrift.exchange import Found, Service
from cloudrift.exchange.folders import Counted, OwnFolders
from cloudrift.exchange.words import alike
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.paths import path_text, shown
from cloudrift.ground.search import tokens
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import KINDS
from cloudrift.loop.sounding import key_of_layers
from cloudrift.notes.listening import read_and_listen

FETCHING = "fetching a recording"
TYPED_MS = 180  # after the last letter it is looked for
ANY = "all"
MOST_ALSO = 4  # words that mean the same and are named


class FindPane(SideTool):
    """Services are searched alike, whether they are elsewhere or folders of one's own."""

    def __init__(self, session: Session, tasks: Tasks, services: dict[str, Service]) -> None:
        super().__init__("Recordings", "Shift+F4")
        self._session, self._tasks, self._services = session, tasks, services
        self._service, self._kind = next(iter(services)), ""
        self._fetched: dict[tuple[str, str], Fetched] = {}
        self._again: Callable[[], object] = lambda: None
        self.found: list[Found] = []
        self._preview = InPlace(session, self)
        self._preview.ended.connect(self._show_hands)
        self._rest = Rest(self)
        self._rest.rested.connect(self.hear)
        self._typed = single_shot(self, self.look, TYPED_MS)
        self.search = search_field("Search: voice, rain, flute …")
        self.where = ChoiceRow([(name, name) for name in services], columns=2, name="Where")
        self.kinds = ChoiceRow(
            [("", ANY), *((kind, kind) for kind in KINDS)], name="Kind", even=False
        )
        self.within = FieldWidget(WITHIN_ST, 4.0)
        self.stretch = FieldWidget(WITHIN_PERCENT, 12.0)
        self.list = listing("Search results")
        self.says = label("", size=11.5, name="soft", wrap=True)
        self.about = label("", size=11.5, name="soft", wrap=True)
        self.progress = progress_bar(8)
        self.again = button("Try again", self._try_again)
        self.stop_it = button("Stop", self._cancel)
        self.folders = button(
            "Folders…", lambda: None, tip="Your folders, analysed for key and tempo"
        )
        self.first_folder = button("Add a folder…", self._choose_folder, name="strong")
        self._folder_menu = QMenu(self.folders)
        self._folder_menu.aboutToShow.connect(self._fill_folders)
        self.folders.setMenu(self._folder_menu)
        self.like = button(
            "More like it",
            self._look_like,
            tip="What sounds most similar: as bright, loud, long and fast",
        )
        self.hearing = button(
            "Play it",
            self.hear,
            tip="In the loop, in its key and tempo; or rest on it, or press Enter",
        )
        self.add = button("Add a layer", self.take, name="strong")
        self.instead = button(
            "Replace",
            partial(self.take, instead=True),
            tip="Replaces the selected recording, keeping its place and treatments",
        )
        self._lay_out()
        self._connect()
        self.where.show_choice(self._service)
        self.kinds.show_choice("")
        self._show_hands()

    def _lay_out(self) -> None:
        self.progress.setRange(0, 100)
        fill(
            self.column,
            self.search,
            self.where,
            self.kinds,
            row((self.within, self.stretch)),
            self.folders,
            (self.list, 1),
            self.says,
            self.first_folder,
            self.progress,
            row((self.again, self.stop_it)),
            self.about,
            row((self.hearing, self.like)),
            row((self.add, self.instead)),
            0,  # takes what the list leaves where it is not there
        )
        for late in (self.again, self.stop_it):
            late.hide()

    def _connect(self) -> None:
        self.search.textChanged.connect(lambda _t: self._typed.start())
        self.search.returnPressed.connect(self.list.setFocus)
        self.where.chosen.connect(self._choose_where)
        self.kinds.chosen.connect(self._choose_kind)
        for field in (self.within, self.stretch):
            field.edited.connect(lambda _v: self._typed.start())
        self.list.currentItemChanged.connect(lambda *_: self._pointed())
        self.list.itemActivated.connect(lambda *_: self.hear())
        self._session.selected.connect(self._show_hands)
        self._session.opened.connect(self._forget)

    def _forget(self) -> None:
        """Another document is open: what is on its way was for the one before."""
        self._tasks.cancel(FETCHING)
        self._fetched.clear()

    # --- looking ------------------------------------------------------------------------------

    def _choose_where(self, name: object) -> None:
        self._service = str(name)
        self._show_hands()
        self.index()
        self.look()

    @property
    def own(self) -> OwnFolders | None:
        """The folders, where they are what is looked in."""
        service = self._services[self._service]
        return service if isinstance(service, OwnFolders) else None

    # --- folders of one's own -----------------------------------------------------------------

    def _fill_folders(self) -> None:
        menu = self._folder_menu
        menu.clear()
        menu.addAction("Add a folder…", self._choose_folder)
        for folder in self._session.preferences.recording_folders:
            gone = "" if folder.is_dir() else ", missing"
            menu.addAction(
                f"Remove {shown(str(folder))}{gone}", partial(self.change_folders, without=folder)
            )

    def _choose_folder(self) -> None:
        words = "A folder with recordings"
        if chosen := ask_for_folder(self, self._session, words):
            self.change_folders(also=chosen)

    def change_folders(self, also: Path | None = None, without: Path | None = None) -> None:
        """Listen to a folder more, or to one no longer."""
        before = self._session.preferences.now.recordings
        kept = [one for one in before if without is None or one != path_text(without)]
        if also is not None and path_text(also) not in kept:
            kept.append(path_text(also))
        self._session.preferences.remember(recordings=tuple(kept))
        self.index()

    def index(self) -> None:
        """Listen to what is new in the folders; what is known of them is found meanwhile."""
        own = self.own
        if own is None:
            return
        self._show_work("analysing your folders…")
        self._tasks.run(
            "indexing",
            own.index,
            self._indexed,
            partial(self._failed, self.index),
            self._index_moved,
            lane=Lane.INDEXING,
        )

    def _index_moved(self, share: float, text: str) -> None:
        self._show_work(text, share)

    def _indexed(self, counted: Counted) -> None:
        self._show_work(None)
        if counted.missing:
            self._session.say(
                f"{', '.join(counted.missing)} is missing; what is known of it stays in the list"
            )
        elif counted.failed and self.own is not None:
            _path, why = self.own.problems()[-1]
            self._session.say(
                f"{plural(counted.failed, 'file')} could not be analysed: {why}", good=True
            )
        self.look()

    def _look_like(self) -> None:
        own, found = self.own, self.pointed
        if own is not None and found is not None:
            self._tasks.run(
                "searching recordings",
                lambda _stale, _moved: own.like(found.offer.id),
                self._show_found,
                partial(self._failed, self._look_like),
                lane=Lane.ASKING,
            )

    def _choose_kind(self, kind: object) -> None:
        self._kind = str(kind)
        self.look()

    def look(self) -> None:
        """Look for what is asked, beside the interface."""
        if not self.isVisible():
            return
        wanted = wanted_in(
            self._session.loop,
            self.search.text(),
            self._kind,
            float(self.within.value),
            float(self.stretch.value),
        )
        service = self._services[self._service]
        self.says.setText("searching…")
        set_look(self.says, "soft")
        self.again.hide()
        self._tasks.run(
            "searching recordings",
            lambda stale, _moved: service.search(wanted, stale),
            self._show_found,
            partial(self._failed, self.look),
            lane=Lane.ASKING,
        )

    def _show_found(self, found: list[Found]) -> None:
        self.found = found
        self.list.clear()
        for one in found:
            self.list.addTopLevelItem(self._item(one))
        also = [one for word in tokens(self.search.text()) for one in alike(word)[1:]]
        self.says.setText(
            f"{plural(len(found), 'recording')}, best match first"
            + (f"; also for {', '.join(also[:MOST_ALSO])}" if also else "")
            if found
            else self._nothing()
        )
        self._pointed()

    @staticmethod
    def _item(found: Found) -> QTreeWidgetItem:
        made = QTreeWidgetItem([text_of(found)])
        made.setToolTip(0, text_of(found))
        return made

    def _nothing(self) -> str:
        if self.own is not None and not self._session.preferences.recording_folders:
            return "no folder yet: add one, and its recordings are analysed for key and tempo"
        return "nothing found; use fewer words, or allow a larger shift or stretch"

    def _try_again(self) -> None:
        self._again()

    def _failed(self, again: Callable[[], object], error: Exception) -> None:
        self._show_work(None)
        if isinstance(error, Cancelled):
            return
        self._again = again
        self.says.setText(error_words(error))
        set_look(self.says, "signal")
        self.again.show()

    @property
    def pointed(self) -> Found | None:
        """The recording that is looked at."""
        row = self.list.indexOfTopLevelItem(self.list.currentItem())
        return self.found[row] if 0 <= row < len(self.found) else None

    def _pointed(self) -> None:
        found = self.pointed
        self._preview.end()
        words = "Select one; rest on it to hear it in place."
        self.about.setText(about(found) if found else words)
        self._show_hands()
        if found is not None and self.list.hasFocus():
            self._rest.come()

    def _show_hands(self) -> None:
        there = self.pointed is not None
        for one in (self.hearing, self.add):
            one.setEnabled(there)
        self.hearing.setText("Stop" if self._preview.on else "Play it")
        self.instead.setEnabled(there and self._chosen_recording() is not None)
        own = self.own is not None
        empty = own and not self._session.preferences.recording_folders
        self.first_folder.setVisible(empty)
        used: tuple[QWidget, ...] = (self.list, self.about, self.hearing, self.add, self.instead)
        for widget in used:
            widget.setVisible(not empty)
        self.folders.setVisible(own and not empty)
        self.like.setVisible(own and not empty)
        self.like.setEnabled(there)

    def _chosen_recording(self) -> str | None:
        """The layer that is chosen, where it is a recording."""
        chosen = self._session.selection.layer_id
        layers = self._session.loop.layers
        return next((x.id for x in layers if x.id == chosen and x.recorded is not None), None)

    # --- fetching, hearing, taking ------------------------------------------------------------

    def hear(self) -> None:
        """Hear the recording in the loop, in its key and tempo; or stop that."""
        self._rest.stop()
        found = self.pointed
        if self._preview.on:
            self._preview.stop()
        elif found is not None:
            self._with(found, lambda there: self._hear(found, there))

    def _hear(self, found: Found, there: Fetched) -> None:
        if self.pointed != found or not self.isVisible():
            return
        self._preview.hear(
            lambda loop: self._laid(loop, found, there, None), f"playing with {found.offer.name}"
        )
        self._show_hands()

    def take(self, instead: bool = False) -> None:
        """Add the recording as a layer, or put it in the chosen one's place."""
        self._rest.stop()  # what is being fetched to be taken is not to be fetched to be heard
        found = self.pointed
        layer_id = self._chosen_recording() if instead else None
        if found is not None:
            self._with(found, lambda there: self._take(found, there, layer_id))

    def _take(self, found: Found, there: Fetched, layer_id: str | None) -> None:
        self._preview.settle()
        words = "another recording" if layer_id else "add a recording"
        if self._session.apply(words, lambda loop: self._laid(loop, found, there, layer_id)):
            self._session.select(layer_id=layer_id or self._session.loop.layers[-1].id)
            doubts = "; ".join(there.facts.doubts)
            self._session.say(
                f"{there.facts.name} is now a layer"
                + (f". Check by ear: {doubts}" if doubts else ""),
                good=True,
            )

    @staticmethod
    def _laid(loop: Loop, found: Found, there: Fetched, layer_id: str | None) -> Loop:
        """The loop with the recording in it, in key by the shorter way, at the loop's tempo."""
        source = recordings.laid_in(loop, there.clip, there.facts)
        ways = recordings.ways_into(source, key_of_layers(loop), loop.tempo)
        if layer_id is None:
            return recordings.add_recording(
                loop, recordings.shifted(source, float(ways[0]) if ways else 0.0)
            )
        return recordings.put_instead(loop, layer_id, source, float(ways[0]) if ways else 0.0)

    def _with(self, found: Found, then: Callable[[Fetched], object]) -> None:
        """Do something with a recording once it is here and was listened to."""
        name = (self._service, found.offer.id)
        if name in self._fetched:
            then(self._fetched[name])
            return
        service, clips = self._services[self._service], self._session.clips

        def work(stale: Callable[[], bool], moved: Callable[[float, str], None]) -> Fetched:
            path = service.fetch(
                found.offer.id, stale, lambda share, text: moved(share * 0.7, text)
            )
            if stale():
                raise Cancelled
            moved(0.8, f"analysing {found.offer.name}")
            audio, rate, heard = read_and_listen(path)
            facts = recordings.facts_of(
                heard,
                found.offer.name,
                origin=self._origin(name[0]),
                licence=found.offer.licence,
                maker=found.offer.maker,
                kind=found.offer.kind,
            )
            return Fetched(clips.record(audio, rate), facts)

        def came(there: Fetched) -> None:
            self._fetched[name] = there
            self._show_work(None)
            then(there)

        self.again.hide()
        self._show_work(f"fetching {found.offer.name}…")
        self._tasks.run(
            FETCHING,
            work,
            came,
            partial(self._failed, lambda: self._with(found, then)),
            lambda share, text: self._show_work(text, share),
            lane=Lane.READING,
        )

    def _origin(self, service: str) -> str:
        return "one of your folders" if self.own is not None else f"the {service.lower()}"

    def _show_work(self, words: str | None, share: float = 0.0) -> None:
        """Show how far something is; None: nothing is under way."""
        self.progress.setVisible(words is not None)
        self.stop_it.setVisible(words is not None)
        self.progress.setValue(round(100 * share))
        if words is not None:
            self.says.setText(words)
            set_look(self.says, "soft")
        elif self.found:
            self.says.setText(f"{plural(len(self.found), 'recording')}, best match first")

    def _cancel(self) -> None:
        for work in (FETCHING, "indexing"):
            self._tasks.cancel(work)
        self._show_work(None)

    # --- coming and going ---------------------------------------------------------------------

    def showEvent(self, _event: QShowEvent | None) -> None:
        if not self.found:
            self.index()
            self.look()

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self._rest.go()
        self._preview.stop()

    def stop(self) -> bool:
        heard = self._preview.on
        self._preview.stop()
        return heard
