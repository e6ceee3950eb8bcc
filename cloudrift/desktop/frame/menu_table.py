"""What is in the menus of the window, each with its key; a stage adds what it offers itself.

Commands take what they act on, a window or a stage, and so know neither before they run.
"""

from collections.abc import Iterable
from functools import partial
from typing import Any

from cloudrift.desktop.frame import usual_keys
from cloudrift.desktop.frame.menus import Menu
from cloudrift.desktop.frame.rail import KEYS, MICROPHONE, RECORDINGS, SHELF, STAGES
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.stages.arrange.stage import ArrangeStage
from cloudrift.desktop.stages.chords.stage import ChordsStage
from cloudrift.desktop.stages.deliver.stage import DeliverStage
from cloudrift.desktop.stages.flip.stage import FlipStage
from cloudrift.desktop.stages.groove.stage import GrooveStage
from cloudrift.desktop.stages.layers.stage import LayersStage
from cloudrift.desktop.stages.texture.stage import TextureStage

OPEN = Command("&Open…", lambda w: w.files.ask_to_open(), "Ctrl+O")
UNDO = Command("&Undo", lambda w: w.session.document.undo(), "Ctrl+Z")
REDO = Command("&Redo", lambda w: w.session.document.redo(), "Ctrl+Shift+Z")


def _beside(text: str, name: str, key: str) -> Command:
    return Command(text, lambda window: window.open_or_close(name), key)


def _pressed(text: str, keys: str) -> Command:
    # The key is only written: what has the keyboard takes it, and the window what is left.
    return Command(f"{text}\t{keys}", lambda window: usual_keys.press(window, keys))


def _in(stage: str, commands: Iterable[Command]) -> tuple[Command, ...]:
    return tuple(command._replace(stage=stage) for command in commands)


def _choose(at: int, window: Any) -> None:
    window.choose_stage(at)


def menu_table() -> tuple[Menu, ...]:
    """Return all menus, in order."""
    return (
        Menu("&File", ((
            Command("&Start a loop…", lambda w: w.start_loop(), "Ctrl+N"),
            OPEN,
            Command("&Save", lambda w: w.files.save(), "Ctrl+S"),
            Command("Save &as…", lambda w: w.files.save_as(), "Ctrl+Shift+S"),
            Command("Keep as a &template…", lambda w: w.files.keep_template()),
        ), (
            Command("S&ettings…", lambda w: w.sheets.settings(), "Ctrl+,"),
            Command("&Quit", lambda w: w.close(), "Ctrl+Q"),
        ))),
        Menu("&Edit", ((
            UNDO, REDO, Command("&History…", lambda w: w.sheets.history(), "Ctrl+H"),
        ), (
            _pressed("Cu&t", "Ctrl+X"), _pressed("&Copy", "Ctrl+C"), _pressed("&Paste", "Ctrl+V"),
            _pressed("&Delete", "Del"), _pressed("Select &all", "Ctrl+A"),
        ))),
        Menu("&Play", ((
            Command("&Play or stop", lambda w: w.session.transport.toggle(), "Space"),
            Command("&Compare bare with treated", lambda w: w.session.hearing.swap(), "B"),
            Command("&From the start", lambda w: w.session.player.seek(0.0), "Home"),
            Command("The &whole loop again", lambda w: w.hear_all(), "W"),
            Command("&Build up: one more layer", lambda w: w.add_up(), "Shift+W"),
            Command("The &groove bed alone, or everything", lambda w: w.bed_alone()),
        ),)),
        Menu("&Chords", (_in("Chords", ChordsStage.commands()), (
            Command("Tempo and key from a &recording…", lambda w: w.importing.choose_reference()),
            Command("Sa&ve the progression…", lambda w: w.files.keep_row()),
            _beside("&Play keys", KEYS, "F6"),
        ))),
        Menu("L&ayers", ((
            _beside("&Shelf: find a sound", SHELF, "F4"),
            _beside("Reco&rdings: find one", RECORDINGS, "Shift+F4"),
            _beside("Microphone: record a ta&ke", MICROPHONE, "Shift+F6"),
            Command("&Chords from the layer's notes", lambda w: w.importing.chords_of_layer()),
        ), _in("Layers", LayersStage.commands()))),
        Menu("&Texture", (_in("Texture", TextureStage.commands()),)),
        Menu("&Flip", (_in("Flip", FlipStage.commands()),)),
        Menu("&Groove", (_in("Groove", GrooveStage.commands()),)),
        Menu("A&rrange", (_in("Arrange", ArrangeStage.commands()),)),
        Menu("&Deliver", (_in("Deliver", DeliverStage.commands()),)),
        Menu("&View", (tuple(
            Command(f"&{at + 1} {name}", partial(_choose, at), f"Alt+{at + 1}")
            for at, name in enumerate(STAGES)
        ), (
            Command("Find in this s&tage", usual_keys.find, "Ctrl+F"),
            Command("&Pitch ruler", lambda w: w.ribbon.swap_ruler(), "F8"),
            Command("Full &screen", usual_keys.full_screen, "F11"),
            Command("&Light or dark", lambda w: w.swap_theme(), "F9"),
            Command("&Style card: marks and moves", lambda w: w.open_style(), "Shift+F9"),
            Command("Last &notices…", lambda w: w.sheets.notices()),
            Command("&Find a command…", lambda w: w.sheets.commands(), "F2"),
        ))),
        Menu("&Help", ((
            Command("&Keys of this stage", lambda w: w.sheets.keys(), "F1"),
            Command("&First steps", lambda w: w.begin_steps()),
            Command("&Glossary", lambda w: w.sheets.words()),
            Command("&About Cloudrift", lambda w: w.sheets.about()),
        ),)),
    )  # fmt: skip
