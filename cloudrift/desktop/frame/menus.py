"""The menus: built from a table of commands, all of which are also in the command finder."""

from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path
from typing import NamedTuple

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMainWindow, QMenu

from cloudrift.desktop.kit.commands import Command
from cloudrift.ground.paths import shown


class Menu(NamedTuple):
    """A menu and its commands: groups of them, a line between one and the next."""

    name: str
    groups: tuple[tuple[Command, ...], ...]


class Menus:
    """Builds the menu bar of a window and keeps its commands."""

    def __init__(
        self, window: QMainWindow, table: Iterable[Menu], do: Callable[[Command], object]
    ) -> None:
        self._window, self._do = window, do
        self._actions: dict[Command, QAction] = {}
        self._menus: list[QMenu] = []  # Qt lets go of what nobody holds
        for menu in table:
            self._build(menu)

    @property
    def commands(self) -> list[QAction]:
        """All commands, in the order of the menus."""
        return list(self._actions.values())

    def action(self, command: Command) -> QAction:
        """Return what a command is in the menus."""
        return self._actions[command]

    def _build(self, menu: Menu) -> None:
        bar = self._window.menuBar()
        assert bar is not None
        made = self._held(bar.addMenu(menu.name))
        inside: dict[str, QMenu] = {}
        for at, group in enumerate(menu.groups):
            if at:
                made.addSeparator()
            for command in group:
                into = made
                if command.inside:
                    into = inside.get(command.inside) or self._held(made.addMenu(command.inside))
                    inside[command.inside] = into
                self._add(into, command)

    def _held(self, menu: QMenu | None) -> QMenu:
        assert menu is not None
        self._menus.append(menu)
        return menu

    def _add(self, menu: QMenu, command: Command) -> None:
        action = QAction(command.text, self._window)
        if command.key:
            action.setShortcut(QKeySequence(command.key))
        action.triggered.connect(lambda _checked=False: self._do(command))
        menu.addAction(action)
        self._actions[command] = action

    def add_recent(
        self, after: Command, files: Callable[[], Iterable[Path]], open_: Callable[[Path], object]
    ) -> QMenu:
        """Add a menu of recent files after a command; it lists those that there are by then."""
        action = self._actions[after]
        home = next(menu for menu in self._menus if action in menu.actions())
        recent = self._held(QMenu("Open &recent", home))
        home.insertMenu(home.actions()[home.actions().index(action) + 1], recent)
        recent.aboutToShow.connect(lambda: fill_recent(recent, files(), open_))
        return recent


def fill_recent(menu: QMenu, files: Iterable[Path], open_: Callable[[Path], object]) -> None:
    """List files by name and folder: one in each folder may have the same name."""
    menu.clear()
    for path in files:
        words = f"{shown(path.stem)}\t{shown(str(path.parent))}"
        action = menu.addAction(words.replace("&", "&&"))
        assert action is not None
        action.triggered.connect(partial(lambda chosen, _checked=False: open_(chosen), path))
    if menu.isEmpty():
        none = menu.addAction("No file has been opened yet")
        assert none is not None
        none.setEnabled(False)
