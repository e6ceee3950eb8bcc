"""The menus: every command with its key, all of them also in the command finder."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from cloudrift.desktop.frame.rail import BED, STAGES
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.stages.arrange.stage import ArrangeStage
from cloudrift.desktop.stages.chords.stage import ChordsStage
from cloudrift.desktop.stages.deliver.stage import DeliverStage
from cloudrift.desktop.stages.flip.stage import FlipStage
from cloudrift.desktop.stages.layers.stage import LayersStage
from cloudrift.desktop.stages.texture.stage import TextureStage
from cloudrift.ground.paths import shown

if TYPE_CHECKING:
    from cloudrift.desktop.frame.window import Window


class Menus:
    """Builds the menu bar of a window and keeps its commands."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self.commands: list[QAction] = []
        self._menus: list[QMenu] = []  # Qt lets go of what nobody holds
        self._make()

    def _command(self, menu: QMenu, text: str, act: Callable[[], object], key: str = "") -> QAction:
        action = QAction(text, self._window)
        if key:
            action.setShortcut(QKeySequence(key))
        action.triggered.connect(lambda _c=False: act())
        menu.addAction(action)
        self.commands.append(action)
        return action

    def _menu(self, name: str) -> QMenu:
        bar = self._window.menuBar()
        assert bar is not None
        menu = bar.addMenu(name)
        assert menu is not None
        self._menus.append(menu)
        return menu

    def _inside(self, menu: QMenu, name: str) -> QMenu:
        made = menu.addMenu(name)
        assert made is not None
        self._menus.append(made)
        return made

    def _fill_recent(self) -> None:
        """List the files that are still there; one in each folder may have the same name."""
        self.recent.clear()
        for path in self._window.session.preferences.recent:
            words = f"{shown(path.stem)}\t{shown(str(path.parent))}"
            action = self.recent.addAction(words.replace("&", "&&"))
            assert action is not None
            action.triggered.connect(lambda _c=False, p=path: self._window.files.open_file(p))
        if self.recent.isEmpty():
            none = self.recent.addAction("No file has been opened yet")
            assert none is not None
            none.setEnabled(False)

    def show_history(self, undo_label: str, redo_label: str) -> None:
        """Name what undo and redo would do; without a name there is nothing to do."""
        both = ((self.undo, "&Undo", undo_label), (self.redo, "&Redo", redo_label))
        for action, what, name in both:
            action.setEnabled(bool(name))
            action.setText(f"{what} {name}".strip())

    def _make(self) -> None:
        window, session = self._window, self._window.session
        loop = self._menu("&Loop")
        self._command(loop, "&Start a loop…", window.start_loop, "Ctrl+N")
        self._command(loop, "&Open…", window.files.ask_to_open, "Ctrl+O")
        self.recent = self._inside(loop, "Open &recent")
        self.recent.aboutToShow.connect(self._fill_recent)
        self._command(loop, "&Save", window.files.save, "Ctrl+S")
        self._command(loop, "Save &as…", window.files.save_as, "Ctrl+Shift+S")
        self._command(loop, "Keep as a &template…", window.files.keep_template)
        loop.addSeparator()
        self._command(loop, "S&ettings…", window.open_settings, "Ctrl+,")
        self._command(loop, "&Quit", window.close, "Ctrl+Q")
        edit = self._menu("&Edit")
        self.undo = self._command(edit, "&Undo", session.document.undo, "Ctrl+Z")
        self.redo = self._command(edit, "&Redo", session.document.redo, "Ctrl+Shift+Z")
        self._command(edit, "&History…", window.open_history, "Ctrl+H")
        hear = self._menu("&Hear")
        self._command(hear, "&Play or stop", session.transport.toggle, "Space")
        self._command(hear, "&Compare bare with treated", session.hearing.swap, "B")
        self._command(hear, "&From the start", lambda: session.player.seek(0.0), "Home")
        self._command(hear, "The &whole loop again", window.hear_all, "W")
        self._command(hear, "&Add up: one layer more", window.add_up, "Shift+W")
        self._command(hear, "The &groove bed alone, or all again", window.bed_alone)
        self._make_chords()
        self._make_layers()
        self._make_texture()
        self._offered(self._menu("&Flip"), "Flip", FlipStage.commands())
        self._offered(self._menu("A&rrange"), "Arrange", ArrangeStage.commands())
        self._offered(self._menu("&Deliver"), "Deliver", DeliverStage.commands())
        stage = self._menu("&Stage")
        for i, name in enumerate(STAGES):
            self._command(
                stage, f"&{i + 1} {name}", partial(window.choose_stage, i), f"Alt+{i + 1}"
            )
        view = self._menu("&View")
        self._command(view, "&Light or dark", window.swap_theme, "F9")
        self._command(view, "&Style card: marks and moves", window.open_style, "Shift+F9")
        self._command(view, "&Groove bed: drums and long bass", partial(window.swap_drawer, BED),
                      "Shift+F7")  # fmt: skip
        self._command(view, "&Find a command…", window.find_command, "F2")
        helping = self._menu("&Help")
        self._command(helping, "&Keys of this stage", window.open_help, "F1")
        self._command(helping, "&About Cloudrift", window.open_about)

    def _make_chords(self) -> None:
        window, chords = self._window, self._menu("&Chords")
        self._offered(chords, "Chords", ChordsStage.commands())
        chords.addSeparator()
        self._command(chords, "Tempo and key from a &recording…", window.choose_reference)
        self._command(chords, "Put the row on the &shelf…", window.files.keep_row)
        self._command(chords, "&Play keys", partial(window.swap_drawer, "Play keys"), "F6")

    def _make_texture(self) -> None:
        self._offered(self._menu("&Texture"), "Texture", TextureStage.commands())

    def _make_layers(self) -> None:
        window, layers = self._window, self._menu("L&ayers")
        self._command(layers, "&Shelf: find a sound", partial(window.swap_drawer, "Shelf"), "F4")
        self._command(
            layers, "Reco&rdings: find one", partial(window.swap_drawer, "Recordings"), "Shift+F4"
        )
        self._command(
            layers,
            "Microphone: sin&g a take",
            partial(window.swap_drawer, "Microphone"),
            "Shift+F6",
        )
        self._command(layers, "&Chords from the layer's own notes", window.chords_of_layer)
        layers.addSeparator()
        self._offered(layers, "Layers", LayersStage.commands())

    def _offered(self, menu: QMenu, stage: str, commands: Iterable[Command]) -> None:
        """Put what a stage offers into its menu."""
        inside: dict[str, QMenu] = {}
        for one in commands:
            if one.inside and one.inside not in inside:
                inside[one.inside] = self._inside(menu, one.inside)
            act = partial(self._window.do_in, stage, one.act, going=one.goes)
            self._command(inside.get(one.inside, menu), one.text, act, one.key)
