"""The Shelf: find a sound, hear it in the layer's own place, use it."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from msgspec.structs import replace
from platformdirs import user_data_path
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QHideEvent, QShowEvent
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.asking import ask_for_files
from cloudrift.desktop.kit.dropped import ONE_SHOTS, SAMPLED, dropped
from cloudrift.desktop.kit.fold import Fold
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, button, label, scrolling, search_field
from cloudrift.desktop.kit.rows import row, small
from cloudrift.desktop.kit.side_tool import InPlace, SideTool
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.shelf.grid import SoundGrid
from cloudrift.desktop.stages.shelf.kept import Kept
from cloudrift.desktop.stages.shelf.own_sheet import NAMED_IN, OwnSheet
from cloudrift.desktop.stages.shelf.sampled_sheet import SampledSheet
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import free_name
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.sound import CATALOGUE, Instrument, look_up
from cloudrift.sound.catalogue import REACHES
from cloudrift.sound.instrument import FAMILIES
from cloudrift.sound.own import OwnSound
from cloudrift.sound.own_files import Shelved, load_own, own_sounds, save_own
from cloudrift.sound.own_import import ImportedRecordings, read_recordings
from cloudrift.sound.sampled import is_sampled, names_in, own_from, read_sampled, said

LIST_PX = 150  # of height that the sounds have at least
IN_LOOP, ALONE, OWN = "in the loop", "alone", "own"
EVERY, STARRED, LAST = "all", "starred", "last used"
FILES = "One-shots and sampled instruments (*.wav *.flac *.ogg *.aif *.aiff *.sf2 *.sfz)"


class Shelf(SideTool):
    """Search and families on top, tiles, words on the one looked at, and what becomes of it."""

    def __init__(self, session: Session, tasks: Tasks, folder: Path | None = None) -> None:
        super().__init__("Shelf", "F4")
        self._tasks = tasks
        self.sheet: OwnSheet | SampledSheet | None = None
        self._session = session
        self._kept = Kept(folder or user_data_path("cloudrift"))
        self._family = ""
        self.setAcceptDrops(True)
        self.grid = SoundGrid()
        self._preview = InPlace(session, self)
        self._preview.ended.connect(lambda: self.grid.show_heard(""))
        self.search = search_field("Search: dark, short, bell …")
        self.which = ChoiceRow([(w, w) for w in (EVERY, STARRED, LAST)], columns=3, name="Which")
        self.reach = ChoiceRow([(r, r) for r in REACHES], columns=4, name="Reaches")
        self.how = ChoiceRow([(h, h) for h in (IN_LOOP, ALONE)], columns=2, name="Play it")
        self.families = ChoiceRow(
            [("", "all"), *((f, f) for f in FAMILIES), (OWN, OWN)], name="Family", even=False
        )
        self.about = label("", size=11.5, name="soft", wrap=True)
        self.use = button(
            "Use it", lambda: self.choose(self.grid.at_cursor, False), name="strong",
            tip="Use this sound for the layer",
        )  # fmt: skip
        self.add = small(
            "Add a layer", lambda: self.choose(self.grid.at_cursor, True),
            "A new layer with this sound",
        )  # fmt: skip
        self.beside = small(
            "Compare", lambda: self.keep_beside(self.grid.at_cursor),
            "The layer's second sound: switch between the two, or let them alternate",
        )  # fmt: skip
        self.bring = small(
            "Own sound…", self._choose_files,
            "Make a sound from your one-shots, or from an SF2 or SFZ file",
        )  # fmt: skip
        self._library: dict[str, Shelved] | None = None  # see _read_library
        self._lay_out()
        self._connect()
        for widget, choice in (
            (self.which, EVERY),
            (self.reach, REACHES[0]),
            (self.how, IN_LOOP),
            (self.families, ""),
        ):
            widget.show_choice(choice)
        self._which, self._reach, self._how = EVERY, REACHES[0], IN_LOOP
        self._fill()
        self._follow()

    def _lay_out(self) -> None:
        self.grid.setToolTip(
            "Rest on a sound or press Enter to hear it; click to use it, Shift-click to add a "
            "layer. The line is its register, the mark C4."
        )
        self._scroll = scrolling(self.grid)
        self._scroll.setMinimumHeight(LIST_PX)
        narrowed, reaching, hearing = QWidget(), horizontal(spacing=6), horizontal(spacing=6)
        for line, words, choice in ((reaching, "Reaches", self.reach), (hearing, "Hear", self.how)):
            fill(line, label(words, size=11.5, name="soft"), (choice, 1))
        fill(vertical(narrowed, FLUSH, 6), self.which, reaching)
        self.narrowed = Fold("Favourites, last used, register", narrowed)
        fill(
            self.column,
            self.search,
            self.families,
            self.narrowed,
            (self._scroll, 1),
            self.about,
            hearing,
            self.use,
            row((self.add, self.beside, self.bring)),
        )

    def _connect(self) -> None:
        self.search.textChanged.connect(lambda _t: self._fill())
        self.search.returnPressed.connect(self.grid.setFocus)
        self.which.chosen.connect(lambda which: self._narrow(_which=which))
        self.reach.chosen.connect(lambda reach: self._narrow(_reach=reach))
        self.families.chosen.connect(lambda family: self._narrow(_family=family))
        self.how.chosen.connect(lambda how: self._narrow(_how=how))
        self.grid.pointed.connect(self._tell)
        self.grid.wanted.connect(self.hear)
        self.grid.chosen.connect(self.choose)
        self.grid.starred.connect(self._star)
        self.grid.moved.connect(self._reveal)
        for signal in (self._session.changed, self._session.opened, self._session.selected):
            signal.connect(lambda *_: self._follow())
        self._session.opened.connect(self._fill)

    def _narrow(self, **what: str) -> None:
        for name, value in what.items():
            setattr(self, name, value)
        for widget, choice in (
            (self.which, self._which),
            (self.reach, self._reach),
            (self.families, self._family),
            (self.how, self._how),
        ):
            widget.show_choice(choice)
        chosen = ((self._which, EVERY), (self._reach, REACHES[0]))
        self.narrowed.say(", ".join(one for one, usual in chosen if one != usual))
        self._fill()

    def _fill(self) -> None:
        matches = look_up(self.search.text(), self._family, self._reach, self._all())
        found = [match.of for match in matches]
        if self._which == STARRED:
            found = [s for s in found if s.name in self._kept.favourites]
        elif self._which == LAST:
            by_name = {s.name: s for s in found}
            found = [by_name[name] for name in self._kept.last if name in by_name]
        by = {match.of.name: match.words for match in matches if match.words}
        self.grid.show_sounds(found, frozenset(self._kept.favourites), by)
        self._tell(self.grid.at_cursor)

    def _all(self) -> list[Instrument]:
        """The sounds of the house, and the composer's own."""
        return [*CATALOGUE.values(), *(own.instrument for own in self._owns().values())]

    def _owns(self) -> dict[str, OwnSound]:
        """The own sounds that the loop carries, and those that are kept."""
        uses = (use for layer in self._session.loop.layers for use in layer.source.all_sounds)
        carried = {use.name: use.own for use in uses if use.own}
        return carried | {name: one.own for name, one in (self._library or {}).items()}

    def _read_library(self) -> dict[str, Shelved]:
        """The own sounds that are kept, read when they are first needed."""
        if self._library is None:
            self._library = {one.own.name: one for one in own_sounds()}
        return self._library

    def _sound(self, sound: Instrument) -> str | OwnSound:
        """What an edit takes for a tile."""
        return self._owns()[sound.name] if sound.family == OWN else sound.name

    def _is_ready(self, sound: Instrument) -> bool:
        """Have a sound's recordings in the session's store; one that can't be read is said."""
        kept = (self._library or {}).get(sound.name) if sound.family == OWN else None
        clips = self._session.clips
        if (
            kept is None
            or kept.file is None
            or all(one.clip in clips for one in kept.own.recordings)
        ):
            return True
        try:
            load_own(kept.file, clips)
        except CloudriftError as error:
            self._session.say(str(error))
            return False
        return True

    def _layer(self) -> Layer | None:
        layers = self._session.loop.layers
        wanted = self._session.selection.layer_id
        return next((x for x in layers if x.id == wanted), layers[0] if layers else None)

    def _follow(self) -> None:
        layer = self._layer()
        self.grid.show_used(layer.played.sound.name if layer and layer.recorded is None else "")
        self.whom.setText(f"for {layer.name}" if layer else "no layer yet")
        self.use.setEnabled(layer is not None)
        self.beside.setEnabled(layer is not None)

    def _tell(self, sound: Instrument | None) -> None:
        if sound is None:
            self.about.setText("")
            return
        low, high = (NAMED_IN.spell_pitch(p) for p in sound.register)
        mono = ", one note at a time" if sound.mono else ""
        self.about.setText(
            f"{sound.label}: {sound.about}\n{', '.join(sound.tags)}\n"
            f"best from {low} to {high}{mono}"
        )

    # --- hearing and choosing -----------------------------------------------------------------

    def _tried(self, loop: Loop, sound: Instrument) -> Loop:
        """Return the loop with a sound in the layer's place, or with it as a first layer."""
        layer = self._layer()
        if layer is None:
            return layer_edits.add_layer(loop, self._sound(sound))
        return layer_edits.set_sound(loop, layer.id, self._sound(sound))

    def hear(self, sound: Instrument | None) -> None:
        """Hear the layer's own part with another sound, in tempo, in place; None to stop."""
        if sound is None:
            if self.grid.heard:
                self._preview.stop()
            self.grid.show_heard("")
            return
        if not self._is_ready(sound):
            return
        layer = self._layer()
        alone = frozenset({layer.id}) if layer and self._how == ALONE else None
        self._preview.hear(
            lambda loop: self._tried(loop, sound),
            f"playing with {sound.label.lower()}",
            alone=alone,
        )
        self.grid.show_heard(sound.name)

    def choose(self, sound: Instrument | None, as_layer: bool) -> None:
        """Give the layer the sound, or add a layer with it."""
        if sound is None or not self._is_ready(sound):
            return
        layer, what = self._layer(), self._sound(sound)
        self.hear(None)
        if as_layer or layer is None:
            if self._session.apply("add a layer", lambda loop: layer_edits.add_layer(loop, what)):
                self._session.select(layer_id=self._session.loop.layers[-1].id)
        else:
            self._session.apply(
                "another sound", lambda loop: layer_edits.set_sound(loop, layer.id, what)
            )
        self._kept.used(sound.name)

    def keep_beside(self, sound: Instrument | None) -> None:
        """Keep a sound as the layer's second one."""
        layer = self._layer()
        if sound is None or layer is None or not self._is_ready(sound):
            return
        what = self._sound(sound)
        self.hear(None)
        self._session.apply("save a sound", lambda p: layer_edits.set_aside(p, layer.id, what))
        self._kept.used(sound.name)

    # --- own sounds ---------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """One-shots, folders of them and sampled instruments may be dropped here."""
        assert event is not None
        if dropped(event.mimeData(), ONE_SHOTS | SAMPLED, folders=True):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        assert event is not None
        self.bring_files(dropped(event.mimeData(), ONE_SHOTS | SAMPLED, folders=True))

    def _choose_files(self) -> None:
        words = "One-shots: one, or several over the keyboard; or a sampled instrument"
        if chosen := ask_for_files(self, self._session, words, FILES):
            self.bring_files(chosen)

    def bring_files(self, paths: list[Path]) -> None:
        """Read one-shots (files or folders) beside the interface, then ask for the rest.

        Of a sampled instrument, what is in its file is read first.
        """
        sampled = next((path for path in paths if is_sampled(path)), None)
        if sampled is not None:
            self._bring_sampled(sampled)
            return
        clips = self._session.clips
        self.bring.setEnabled(False)
        self.about.setText("Reading recordings…")
        self._tasks.run(
            "own sound",
            lambda stop, moved: read_recordings(paths, clips, stop, moved),
            lambda found: self._ask(found, paths[0]),
            self._not_read,
            lambda share, name: self.about.setText(f"Reading {name}: {share:.0%}"),
            lane=Lane.READING,
        )

    def _bring_sampled(self, path: Path) -> None:
        self.bring.setEnabled(False)
        self._tasks.run(
            "own sound",
            lambda _stop, _moved: names_in(path),
            lambda names: self._ask_which(names, path),
            self._not_read,
            lane=Lane.READING,
        )

    def _ask_which(self, names: list[str], path: Path) -> None:
        self.bring.setEnabled(True)
        if not names:
            self._session.say(f"{path.name} has no instruments in it")
            return
        sheet = SampledSheet(names, path, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.chosen.connect(partial(self._read_sampled, path))
        self.sheet = sheet
        sheet.open()

    def _read_sampled(self, path: Path, number: int, name: str, licence: str) -> None:
        clips = self._session.clips
        self.bring.setEnabled(False)

        def work(
            stop: Callable[[], bool], moved: Callable[[float, str], None]
        ) -> tuple[OwnSound, str]:
            sampled = read_sampled(path, number)
            own = own_from(sampled, clips, licence, stop, moved)
            return replace(own, name=name), said(sampled, own)

        def came(what: tuple[OwnSound, str]) -> None:
            self.bring.setEnabled(True)
            self._tell(self.grid.at_cursor)
            self.take_own(*what)

        self._tasks.run(
            "own sound",
            work,
            came,
            self._not_read,
            lambda share, what: self.about.setText(f"Reading {what}: {share:.0%}"),
            lane=Lane.READING,
        )

    def _not_read(self, error: Exception) -> None:
        self.bring.setEnabled(True)
        self._tell(self.grid.at_cursor)
        self._session.say(str(error))

    def _ask(self, found: list[ImportedRecordings], first: Path) -> None:
        self.bring.setEnabled(True)
        self._tell(self.grid.at_cursor)
        name = first.name if first.is_dir() else first.parent.name if len(found) > 1 else first.stem
        sheet = OwnSheet(found, name, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.made.connect(self.take_own)
        self.sheet = sheet
        sheet.open()

    def take_own(self, own: OwnSound, words: str = "") -> None:
        """Put an own sound on the shelf, keep it for other loops, and give it to the layer.

        One of a name that is taken by another gets a number. ``words`` say more of it.
        """
        library = self._read_library()
        name = own.name
        own = replace(own, name=free_name(name, [*CATALOGUE, *self._owns()]))
        taken = "" if own.name == name else f": {name} already exists"
        more = f". {words}" if words else ""
        self._session.say(f"Saved on the shelf as {own.name}{taken}{more}", good=True)
        library[own.name] = Shelved(own, None)
        try:
            library[own.name] = Shelved(own, save_own(own, self._session.clips))
        except CloudriftError as error:
            self._session.say(f"{error}; the loop still contains the sound")
        self._narrow(_family=OWN, _which=EVERY, _reach=REACHES[0])
        self.choose(own.instrument, self._layer() is None)

    def _star(self, sound: Instrument) -> None:
        self._kept.swap_favourite(sound.name)
        self._fill()

    def show_layer_sound(self) -> None:
        """Put the cursor on the sound that the layer has, if it is among those shown."""
        layer = self._layer()
        names = [s.name for s in self.grid.sounds]
        if layer and layer.recorded is None and layer.played.sound.name in names:
            self.grid.current = names.index(layer.played.sound.name)
            self._tell(self.grid.at_cursor)
            self._reveal(self.grid.box(self.grid.current))

    def _reveal(self, box: QRectF) -> None:
        centre = box.center().toPoint()
        self._scroll.ensureVisible(centre.x(), centre.y(), 0, round(box.height()))

    def showEvent(self, _event: QShowEvent | None) -> None:
        if self._library is None:
            self._read_library()
            self._fill()

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self.hear(None)

    def stop(self) -> bool:
        heard = bool(self.grid.heard)
        self.hear(None)
        return heard
