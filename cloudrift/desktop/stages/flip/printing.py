"""Printing beside the interface: all of the loop or some; again; the loop that it was made from."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QMenu

from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.tasks import Lane, Tasks
from cloudrift.desktop.session.trouble import error_words
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.wanted import Cancelled
from cloudrift.loop import flips
from cloudrift.loop.document import Document, Print
from cloudrift.loop.flip import Flipped
from cloudrift.loop.model import Layer, Loop
from cloudrift.loop.prints import loop_to_print, recipe_of, with_print, with_reprint
from cloudrift.render.printing import Printed, printed

PRINTING = "print"
LONGEST_NAME = 40


class Printing(QObject):
    """Makes prints and flips. ``made`` carries the layer that is new; ``busy`` words, or none."""

    made = pyqtSignal(str)
    busy = pyqtSignal(str)

    def __init__(self, session: Session, tasks: Tasks, layer: Callable[[], Layer | None]) -> None:
        """``layer`` says which flip is shown."""
        super().__init__()
        self._session, self._tasks, self._layer = session, tasks, layer
        session.opened.connect(self.cancel)  # what is printed was of another document

    def cancel(self) -> None:
        """Leave what is being printed."""
        self._tasks.cancel(PRINTING)

    @property
    def _flip(self) -> Flipped | None:
        layer = self._layer()
        return layer.flipped if layer else None

    def kept(self) -> tuple[Print, Loop] | None:
        """The shown flip's print and the loop that it was made from; None, said, where none is."""
        flip = self._flip
        try:
            if flip is None or not flip.print_id:
                raise CloudriftError("that is no print, so no loop was kept with it")
            return recipe_of(self._session.document.history.now, flip.print_id)
        except CloudriftError as error:
            self._session.say(str(error))
            return None

    def fill(self, menu: QMenu) -> None:
        """Put all that can be printed into a menu."""
        loop = self._session.loop
        menu.clear()
        menu.addAction("The whole loop, treated", partial(self.print_what, (), bare=False))
        menu.addAction("The whole loop, bare", partial(self.print_what, (), bare=True))
        menu.addSeparator()
        together = [x for x in loop.layers if x.id in self._session.hearing.alone]
        if len(together) > 1:
            names = " and ".join(x.name for x in together).replace("&", "&&")
            menu.addAction(names, self.print_together)
        for layer in loop.layers:
            menu.addAction(layer.name.replace("&", "&&"), partial(self.print_what, (layer.id,)))
        for group in loop.groups:
            name = f"{group.name} (group)".replace("&", "&&")
            menu.addAction(name, partial(self.print_what, (group.id,)))
        recordings = [x for x in loop.layers if x.recorded is not None and x.flipped is None]
        if recordings:
            menu.addSeparator()
        for layer in recordings:
            name = f"Cut {layer.name} as it is".replace("&", "&&")
            menu.addAction(name, partial(self.cut, layer.id))

    def print_chosen(self) -> None:
        """Print the layer that is chosen."""
        layer_id = self._session.selection.layer_id
        if layer_id:
            self.print_what((layer_id,))
        else:
            self._session.say("no layer is chosen; add one in Layers")

    def print_together(self) -> None:
        """Print the layers that are heard alone, as one."""
        alone = self._session.hearing.alone
        layers = tuple(x.id for x in self._session.loop.layers if x.id in alone)
        if layers:
            self.print_what(layers)
        else:
            self._session.say("no layers are heard alone; press hear on some in Layers")

    def print_what(self, layers: tuple[str, ...], *, bare: bool = False) -> None:
        """Print all that is heard, or some layers or groups, beside the interface."""
        session = self._session
        try:
            loop = loop_to_print(session.loop, layers, bare=bare)
        except CloudriftError as error:
            session.say(str(error))
            return
        count = len(session.document.history.now.prints) + 1
        whole = "Whole loop, bare" if bare else "Whole loop"
        what = " and ".join(layer.name for layer in loop.layers) if layers else whole
        name = f"Print {count}, {what}"[:LONGEST_NAME]

        def came(got: Printed) -> None:
            def edit(document: Document) -> Document:
                return with_print(document, loop, got.clip, got.facts, layers, got.gain_db)

            if session.document.change("print", edit):
                self.made.emit(session.loop.layers[-1].id)
                key, tempo = got.facts.key, got.facts.tempo
                sounds = f"; it sounds in {key.text} at {tempo:.5g} BPM" if key else ""
                session.say(f"{name} stands{sounds}", good=True)

        self._work(loop, name, came)

    def reprint(self) -> None:
        """Print the open loop, or the same layers of it, in the shown print's place."""
        session, kept = self._session, self.kept()
        if kept is None:
            return
        old, before = kept
        try:
            source = _without_flips_of(session.loop, old.id)
            loop = loop_to_print(source, old.recipe.layers, bare=_is_bare(before))
        except CloudriftError as error:
            session.say(str(error))
            return

        def came(got: Printed) -> None:
            if session.document.change("reprint", lambda document: with_reprint(
                document, old.id, loop, got.clip, got.facts, got.gain_db
            )):  # fmt: skip
                session.say(f"{old.name} is printed anew; what was cut from it follows", good=True)
            else:
                session.say(f"{old.name} is what it was", good=True)

        self._work(loop, old.name, came)

    def _work(self, loop: Loop, name: str, came: Callable[[Printed], None]) -> None:
        clips = self._session.clips
        self.busy.emit(f"printing {name}…")

        def done(got: Printed) -> None:
            self.busy.emit("")
            came(got)

        def failed(error: Exception) -> None:
            self.busy.emit("")
            if not isinstance(error, Cancelled):
                self._session.say(error_words(error))

        self._tasks.run(PRINTING, lambda stale, _moved: printed(loop, name, clips, stale), done,
                        failed, lane=Lane.WRITING)  # fmt: skip

    def show_recipe(self) -> None:
        """Put the loop that the print was made from in the open one's place, as one step."""
        session, kept = self._session, self.kept()
        if kept is None:
            return
        _print, before = kept

        def edit(loop: Loop) -> Loop:
            """The layers as they were; flips stay, for they are cut from what was printed."""
            cut_up = tuple(x for x in loop.layers if x.flipped is not None)
            ids = {x.id for x in cut_up}
            layers = tuple(x for x in before.layers if x.id not in ids)
            return flips.with_layers_of(loop, before, (*layers, *cut_up))

        if session.apply("the print's loop", edit):
            session.say("The loop is as it was when this was printed; change it and press Reprint, "
                        "or undo", good=True)  # fmt: skip

    def cut_recording(self) -> None:
        """Cut the recording that is chosen."""
        self.cut(self._session.selection.layer_id)

    def cut(self, layer_id: str) -> None:
        """Make a recording a flip."""
        if not layer_id:
            self._session.say("no recording is chosen; choose one in Layers")
        elif self._session.apply("cut a recording",
                                 lambda loop: flips.flip_recording(loop, layer_id)):  # fmt: skip
            self.made.emit(layer_id)


def _is_bare(loop: Loop) -> bool:
    """Whether a loop that was printed has no treatment at all."""
    lines = (loop.line, *(x.line for x in loop.layers), *(x.line for x in loop.groups))
    return not any(lines)


def _without_flips_of(loop: Loop, print_id: str) -> Loop:
    """The loop without what was cut from a print: that can't be printed into itself."""
    kept = tuple(x for x in loop.layers if x.flipped is None or x.flipped.print_id != print_id)
    return flips.with_layers_of(loop, loop, kept)
