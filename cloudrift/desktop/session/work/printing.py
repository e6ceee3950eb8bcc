"""Printing beside the interface: all of the loop or some; again; the loop that it was made from."""

from collections.abc import Callable
from functools import partial
from typing import TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.loudness import integrated_lufs
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled, Moved
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import cut_at_word, some_of
from cloudrift.loop.edits.arranging.passes import check_passes, passers, passes_in
from cloudrift.loop.edits.flip import flips
from cloudrift.loop.edits.flip.prints import (
    can_be_remade,
    flip_anew,
    loop_to_print,
    printable,
    recipe_of,
    with_print,
)
from cloudrift.loop.model.document import Document, Pass, Print, PrintedPart, in_parts
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.render.engine.engine import Engine
from cloudrift.render.forms.print_ahead import HELD, Span, prepare, reprinted_there, spans_in
from cloudrift.render.forms.printing import (
    Printed,
    Reprint,
    part_of,
    printed,
    reprinted,
    with_reprints,
)

PRINTING, PREPARING = "print", "prepare a print"
RESTED_MS = 4000  # after a hand has turned what is in a print
LONGEST_NAME = 40
AHEAD_S = (0.9, 3.0)  # of what plays, made in turn before the rest of a print
IN_TIME_S = 0.3  # the whole of it takes no longer, so that no second stretch is made
Made = TypeVar("Made")


class Printing(QObject):
    """Makes prints and flips. ``made`` carries the layer that is new; ``busy`` words, or none."""

    made = pyqtSignal(str)
    busy = pyqtSignal(str)

    def __init__(
        self, session: Session, tasks: Tasks, layer: Callable[[], Layer | None] = lambda: None
    ) -> None:
        """``layer`` says which flip is shown, for what is about that."""
        super().__init__(session)
        self._session, self._tasks, self._layer = session, tasks, layer
        self._request = 0
        self._exactly: Callable[[], None] | None = None  # what waits to be printed to the last bit
        self._resting = single_shot(self, self._print_exactly, RESTED_MS)
        self._turned: Engine | None = None  # has what the shown print is made of
        session.opened.connect(self.cancel)  # what is printed was of another document

    def cancel(self) -> None:
        """Leave what is being printed: at once here; its thread ends with the step it is at."""
        self._resting.stop()
        self._tasks.cancel(PRINTING)
        self._request += 1
        self.busy.emit("")
        if self._turned is not None:
            self.prepare(on=False)

    @property
    def _flip(self) -> Flipped | None:
        layer = self._layer()
        return layer.flipped if layer else None

    def kept(self) -> tuple[Print, Loop] | None:
        """The shown flip's print and the loop that it was made from; None, said, where none is."""
        flip = self._flip
        try:
            if flip is None or not flip.print_id:
                raise CloudriftError("that is not a print, so it has no source loop")
            return recipe_of(self._session.document.history.now, flip.print_id)
        except CloudriftError as error:
            self._session.say(str(error))
            return None

    @property
    def _next_number(self) -> int:
        numbers = (one.id.removeprefix("p") for one in self._session.document.history.now.prints)
        return max((int(number) for number in numbers if number.isdigit()), default=0) + 1

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
            self._session.say("no layers are soloed; solo some in Layers")

    def print_each(self) -> None:
        """Print each layer that is heard by itself; a group as one."""
        session, clips = self._session, self._session.clips
        wanted = []
        for count, one in enumerate(passers(session.loop), self._next_number):
            loop = loop_to_print(session.loop, (one.id,))
            name = cut_at_word(f"Print {count}, {one.name}", LONGEST_NAME)
            wanted.append((one.id, loop, name))
        if not wanted:
            session.say("no layer plays, so there is nothing to print; add a layer first")
            return

        def work(stale: Callable[[], bool], moved: Moved) -> list[Printed]:
            return [
                printed(loop, name, clips, stale, moved=part_of(moved, at, len(wanted)))
                for at, (_id, loop, name) in enumerate(wanted)
            ]

        def came(got: list[Printed]) -> None:
            def edit(document: Document) -> Document:
                for (one, loop, _name), made in zip(wanted, got, strict=True):
                    document = with_print(document, loop, *made[:2], (one,), made.gain_db)
                return document

            if session.document.change("print each layer", edit):
                self.made.emit(session.loop.layers[-1].id)
                session.say(f"{len(wanted)} prints made, one per layer", good=True)

        self._work(f"printing {len(wanted)} layers", work, came)

    def print_what(
        self,
        layers: tuple[str, ...],
        *,
        bare: bool = False,
        passes: tuple[Pass, ...] = (),
        then: Callable[[Loop, str], Loop] = lambda loop, _id: loop,
    ) -> None:
        """Print all that is heard, or some layers or groups, beside the interface.

        ``then`` goes on with the loop and the new flip's layer, as part of the same step.
        """
        session = self._session
        try:
            loop = loop_to_print(session.loop, layers, bare=bare)
            check_passes(loop, passes)
        except CloudriftError as error:
            session.say(str(error))
            return
        count = self._next_number
        whole = f"{len(passes)} pass{'es' * (len(passes) != 1)}" if passes else "Whole loop"
        whole += ", bare" if bare else ""
        what = some_of([layer.name for layer in loop.layers]) if layers else whole
        name = cut_at_word(f"Print {count}, {what}", LONGEST_NAME)

        def came(got: Printed) -> None:
            def edit(document: Document) -> Document:
                document = with_print(
                    document, loop, *got[:2], layers, got.gain_db, passes, bare=bare
                )
                now = document.loop
                return document.with_loop(then(now, now.layers[-1].id))

            if session.document.change("print", edit):
                self.made.emit(session.loop.layers[-1].id)
                key, tempo = got.facts.key, got.facts.tempo
                sounds = f"; it sounds in {key.text} at {tempo:.5g} BPM" if key else ""
                session.say(f"{name} is ready{sounds}", good=True)

        clips = session.clips
        self._work(
            f"printing {name}",
            lambda stale, moved: printed(loop, name, clips, stale, passes, moved),
            came,
        )

    def reprint(self) -> None:
        """Print the open loop, or the same layers of it, in the shown print's place.

        Prints that were made of what that plays follow, each from its own loop.
        """
        session, kept = self._session, self.kept()
        if kept is None:
            return
        old, _before = kept
        document, clips = session.document.history.now, session.clips
        try:
            loop = loop_to_print(
                printable(document, old.id), old.recipe.layers, bare=old.recipe.bare
            )
            passes = passes_in(loop, old.recipe.passes)
            check_passes(loop, passes)
        except CloudriftError as error:
            session.say(str(error))
            return

        def came(got: list[Reprint]) -> None:
            if session.document.change("reprint", lambda now: with_reprints(now, got)):
                more = [recipe_of(document, one.print_id)[0].name for one in got[1:]]
                do = "do" if len(more) > 1 else "does"
                too = f", and so {do} {' and '.join(more)}" if more else ""
                session.say(f"{old.name} is printed again; all flips of it follow{too}", good=True)
            else:
                session.say(f"{old.name} has not changed", good=True)

        self._work(
            f"printing {old.name}",
            lambda stale, moved: reprinted(document, old.id, loop, passes, clips, stale, moved),
            came,
        )

    def prepare(self, *, on: bool) -> None:
        """Have what the shown print is made of at hand, for a hand will turn what is in it."""
        session, kept = self._session, self.kept() if on else None
        if kept is None:
            self._tasks.cancel(PREPARING)
            session.engine.cache.hold(HELD, ())
            return
        old, loop = kept
        engine, now = self._engine, in_parts(loop, old.recipe.parts)

        def work(stale: Callable[[], bool], _moved: Moved) -> None:
            give_way = partial(self._tasks.give_way, stale)
            prepare(engine, now, old.recipe.passes, stale, give_way)

        self._tasks.run(PREPARING, work, lambda _: None, lambda _: None, lane=Lane.AHEAD)

    @property
    def _engine(self) -> Engine:
        if self._turned is None:
            self._turned = Engine(beside=self._session.engine)
        return self._turned

    def _about_to_play(self, print_id: str, seconds: float) -> list[Span]:
        """What of a print its flips play in so long; nothing where the loop does not play."""
        session = self._session
        share, loop = session.hearing.where, session.loop
        if share is None:
            return []
        first = round(share * loop.ticks)
        last = first + round(seconds * loop.rate / loop.sounding_frames * loop.ticks)
        flips_of = [x.flipped for x in loop.heard() if x.flipped and x.flipped.print_id == print_id]
        return [span for flip in flips_of for span in spans_in(flip, first, last, loop.ticks)]

    def change_parts(self, words: str, parts: tuple[PrintedPart, ...]) -> None:
        """Make the shown print again with its layers otherwise: all cut from it stays as it is.

        What its flip is about to play is heard first, then all of what is known of its sound;
        then it is printed to the last bit.
        """
        session, kept = self._session, self.kept()
        if kept is None:
            return
        old, loop = kept
        reason = can_be_remade(session.document.history.now, old.id)
        if reason:
            session.say(reason)
            return
        document, clips, passes = session.document.history.now, session.clips, old.recipe.passes
        engine, is_put = self._engine, False
        doing = f"printing {old.name}"

        def put(got: list[Reprint]) -> None:
            """Unless it was undone meanwhile, or the print is gone."""
            nonlocal is_put
            now = session.document.history.now
            as_put = any(one.id == old.id and one.recipe.parts == parts for one in now.prints)
            if got and (as_put or not is_put):
                is_put = True
                session.document.change(
                    words, lambda now: with_reprints(now, got), merge=f"parts of {old.id}"
                )

        def whole(stale: Callable[[], bool], moved: Moved) -> list[Reprint]:
            return reprinted(document, old.id, loop, passes, clips, stale, moved, parts, engine)

        def exactly(stale: Callable[[], bool], moved: Moved) -> list[Reprint]:
            return reprinted(document, old.id, loop, passes, clips, stale, moved, parts)

        def look_ahead(*stretches_s: float) -> None:
            """Make more and more of what is about to play, as long as it can be; then the whole."""
            if not stretches_s:
                self._work(doing, whole, came)
                return
            spans = self._about_to_play(old.id, stretches_s[0])

            def there(_stale: object, _moved: object) -> tuple[list[Reprint], float]:
                return reprinted_there(document, old.id, loop, passes, parts, spans, engine)

            def came_there(found: tuple[list[Reprint], float]) -> None:
                got, whole_s = found
                put(got)
                look_ahead(*(stretches_s[1:] if got and whole_s > IN_TIME_S else ()))

            def failed(error: Exception) -> None:
                if not isinstance(error, Cancelled):
                    look_ahead()  # what is wrong is said of the whole

            # It has a lane beside the print before it, which may be in a long step.
            self._tasks.run(PRINTING, there, came_there, failed, lane=Lane.READING)

        def came(got: list[Reprint]) -> None:
            put(got)
            self._exactly = lambda: self._work(doing, exactly, put)
            self._resting.start()  # it would hold up the next turn of the same hand

        self._begin(doing)
        look_ahead(*AHEAD_S)

    def _print_exactly(self) -> None:
        if self._exactly is not None:
            self._exactly()

    def _work(
        self,
        doing: str,
        work: Callable[[Callable[[], bool], Moved], Made],
        came: Callable[[Made], None],
    ) -> None:
        request = self._begin(doing)

        def done(got: Made) -> None:
            self.busy.emit("")
            came(got)

        def failed(error: Exception) -> None:
            if request == self._request:  # else it was cancelled, and another may be under way
                self.busy.emit("")
            if not isinstance(error, Cancelled):
                self._session.say(error_words(error))

        def moved(share: float, words: str) -> None:
            self.busy.emit(f"{doing}: {share:.0%}, {words}")

        self._tasks.run(PRINTING, work, done, failed, moved, lane=Lane.WRITING)

    def _begin(self, doing: str) -> int:
        """Say what begins, in place of all that was wanted before; return its number."""
        self._resting.stop()
        self._exactly = None
        self.busy.emit(f"{doing}…")
        self._request += 1
        return self._request

    def flip_anew(self, print_id: str) -> None:
        """Make another flip of a print."""
        session = self._session
        kept, _loop = recipe_of(session.document.history.now, print_id)
        clips = session.clips

        def work(_stale: Callable[[], bool], _moved: Moved) -> tuple[int, float]:
            audio, rate = clips.read(kept.clip)
            return audio.shape[1], integrated_lufs(audio, rate)

        def came(known: tuple[int, float]) -> None:
            if session.document.change(
                "another flip", lambda now: flip_anew(now, print_id, *known)
            ):
                self.made.emit(session.loop.layers[-1].id)

        self._work(f"reading {kept.name}", work, came)

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
            session.say(
                "This is the loop as it was printed; change it and choose Print again, or undo",
                good=True,
            )

    def cut_recording(self) -> None:
        """Cut the recording that is chosen."""
        self.cut(self._session.selection.layer_id)

    def cut(self, layer_id: str) -> None:
        """Make a flip of a recording, beside it."""
        if not layer_id:
            self._session.say("no recording is selected; select one in Layers")
            return
        made = self._session.make("cut a recording", lambda loop: flips.cut_beside(loop, layer_id))
        if made is not None:
            self.made.emit(made)
