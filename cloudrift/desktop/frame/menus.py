"""The menus: every command with its key, all of them also in the command finder."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from cloudrift.desktop.frame.rail import STAGES
from cloudrift.notes.tools import GROUPS, TOOLS

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
            action = self.recent.addAction(f"{path.stem}\t{path.parent}".replace("&", "&&"))
            assert action is not None
            action.triggered.connect(lambda _c=False, p=path: self._window.open_file(p))
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
        self._command(loop, "&Open…", window.ask_to_open, "Ctrl+O")
        self.recent = self._inside(loop, "Open &recent")
        self.recent.aboutToShow.connect(self._fill_recent)
        self._command(loop, "&Save", window.save, "Ctrl+S")
        self._command(loop, "Save &as…", window.save_as, "Ctrl+Shift+S")
        self._command(loop, "Keep as a &template…", window.keep_template)
        loop.addSeparator()
        self._command(loop, "S&ettings…", window.open_settings, "Ctrl+,")
        self._command(loop, "&Quit", window.close, "Ctrl+Q")
        edit = self._menu("&Edit")
        self.undo = self._command(edit, "&Undo", session.undo, "Ctrl+Z")
        self.redo = self._command(edit, "&Redo", session.redo, "Ctrl+Shift+Z")
        self._command(edit, "&History…", window.open_history, "Ctrl+H")
        hear = self._menu("&Hear")
        self._command(hear, "&Play or stop", session.toggle_playing, "Space")
        self._command(hear, "&Compare bare with treated", session.swap_hearing, "B")
        self._command(hear, "&From the start", lambda: session.player.seek(0.0), "Home")
        self._command(hear, "The &whole loop again", window.hear_all, "W")
        self._make_chords()
        self._make_layers()
        self._make_texture()
        stage = self._menu("&Stage")
        for i, name in enumerate(STAGES):
            self._command(
                stage, f"&{i + 1} {name}", partial(window.choose_stage, i), f"Alt+{i + 1}"
            )
        view = self._menu("&View")
        self._command(view, "&Light or dark", window.swap_theme, "F9")
        self._command(view, "&Find a command…", window.find_command, "F2")
        helping = self._menu("&Help")
        self._command(helping, "&Keys of this stage", window.open_help, "F1")
        self._command(helping, "&About Cloudrift", window.open_about)

    def _make_chords(self) -> None:
        window, bar = self._window, self._window.chords.row_bar
        chords = self._menu("&Chords")
        self._command(chords, "&Type a row of chords", window.type_row, "Ctrl+R")
        self._command(chords, "&Draw a row from the style card", bar.draw_row, "Ctrl+D")
        self._command(chords, "Chords from a &MIDI file…", bar.choose_midi, "Ctrl+M")
        self._command(chords, "Tempo and key from a &recording…", window.choose_reference)
        self._command(chords, "Put the row on the &shelf…", window.keep_row)
        self._command(chords, "&Nearest voicing for all", window.chords.inspector.all_nearest)
        self._command(chords, "&Every second one late", window.chords.moves.every_second_late)
        self._command(chords, "&Play keys", partial(window.swap_drawer, "Play keys"), "F6")

    def _make_texture(self) -> None:
        window, stage = self._window, self._window.texture
        texture = self._menu("&Texture")
        acts = (
            ("&Finishes: ready lines", stage.show_finishes, "F3"),
            ("&Two strips side by side", stage.show_pair, ""),
            ("Find &harsh: the strongest resonance", stage.find_harsh, ""),
            ("&Copy the line", stage.copy_line, ""),
            ("&Paste treatments", stage.paste, ""),
        )
        for text, act, key in acts:
            self._command(texture, text, partial(window.in_texture, act), key)

    def _make_layers(self) -> None:
        window = self._window
        layers, notes = self._menu("L&ayers"), window.layers.notes
        self._command(layers, "&Shelf: find a sound", partial(window.swap_drawer, "Shelf"), "F4")
        self._command(layers, "&Note layer: one to draw in", window.add_note_layer, "Ctrl+L")
        self._command(layers, "Layers from a &MIDI file…", window.layers.choose_midi)
        self._command(layers, "Step to the &next layer", window.layers.next_layer, "F7")
        self._command(layers, "&Hear one layer more", window.layers.hear_one_more, "F8")
        layers.addSeparator()
        self._command(layers, "&Let go of the chords", notes.moves.let_go)
        self._command(layers, "&Chords from the layer's own notes", window.chords_of_layer)
        self._command(layers, "&Follow the chords again", notes.moves.take_again)
        for group in GROUPS:
            menu = self._inside(layers, f"Notes: {group}")
            for tool in TOOLS.values():
                if tool.group == group:
                    self._command(menu, f"{tool.label}: {tool.about}",
                                  partial(window.open_tool, tool.name))  # fmt: skip
