"""The microphone: its level, taking, the takes, and what becomes of one."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QSignalBlocker
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QCheckBox, QTreeWidgetItem

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import fill, horizontal
from cloudrift.desktop.kit.parts import ChoiceRow, button, label, set_look, small_button
from cloudrift.desktop.kit.rest import Rest
from cloudrift.desktop.kit.rows import row
from cloudrift.desktop.kit.side_tool import InPlace, SideTool
from cloudrift.desktop.kit.tables import listing
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.microphone.choices import FinishChoice, SourceChoice
from cloudrift.desktop.stages.microphone.level import Level
from cloudrift.desktop.stages.microphone.taker import State, Take, Taker
from cloudrift.desktop.stages.microphone.words import LATE, SAYS, Ready, put_words, room_of
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.words import number, plural
from cloudrift.loop.edits.layers.sung import Over, facts_of_take, put_take
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.listening import listen_to
from cloudrift.texture.way_in import made_ready

NEW, AGAIN = "a new layer", "another take"
READY_TASK = "a take"
OVER_TIP = (
    "Over the loop: the take's level above what it was recorded to, between 1 and 4 kHz, where "
    "words are understood"
)


class MicrophonePane(SideTool):
    """Takes are made, heard in place, and one of them is chosen."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__("Microphone", "Shift+F6")
        self._session, self._tasks = session, tasks
        self.taker = Taker(session, tasks)
        self._over, self._pitched, self._becomes = Over.LOOP, True, NEW
        self._layer = ""  # that a take became last
        self._put_in: dict[str, int] = {}  # layer -> number of the take that it is
        self._ready: dict[tuple[int, bool], Ready] = {}
        self._preview = InPlace(session, self)
        self._preview.ended.connect(self._show_hands)
        self._rest = Rest(self)
        self._rest.rested.connect(self.hear)
        self.source = SourceChoice()
        self.source.activated.connect(self._choose_source)
        self.level = Level()
        self.over = ChoiceRow([(one, one.value) for one in Over], columns=3, name="Sung to")
        self.over.chosen.connect(self._choose_over)
        self.what = ChoiceRow(
            [(True, "has a pitch"), (False, "spoken, noise")], columns=2, name="Source"
        )
        self.what.chosen.connect(self._choose_what)
        self.what.button(True).setToolTip(
            "Sung or played: in the loop's key, and transposed with it"
        )
        self.what.button(False).setToolTip("Not transposed when the key changes")
        self.take = button(
            "Record", self.swap, name="strong",
            tip="One bar of count-in, then each pass of the loop is a take",
        )  # fmt: skip
        self.list = listing("Takes")
        self.says = label("", size=11.5, name="soft", wrap=True)
        self.becomes = ChoiceRow([(NEW, NEW), (AGAIN, AGAIN)], columns=2, name="A take becomes")
        self.becomes.chosen.connect(self._choose_becomes)
        self.line = FinishChoice()
        self.even = QCheckBox("Low cut, compressed")
        self.even.setChecked(True)
        self.even.setToolTip(
            "While monitoring: low cut at 80 Hz and a compressor. The take itself is recorded dry"
        )
        self.late = FieldWidget(LATE, 80.0)
        self.late.edited.connect(lambda value: self.taker.say_late(float(value)))
        self.measure = small_button(
            "Measure latency",
            self.taker.measure,
            tip="Plays sweeps through the speaker: hold the microphone to it",
        )
        self.hearing = button(
            "Play it", self.hear, tip="In the loop; or rest on it, or press Enter"
        )
        self.put = button("Use it", self.put_in, name="strong")
        self._lay_out()
        self._connect()
        self.over.show_choice(self._over)
        self.what.show_choice(True)
        self.becomes.show_choice(NEW)
        self._show()

    def _lay_out(self) -> None:
        late = horizontal(spacing=4)
        fill(late, (self.late, 1), self.measure)
        fill(
            self.column,
            self.source,
            self.level,
            label("Record to", size=11.5, name="soft"),
            self.over,
            self.what,
            self.take,
            self.says,
            (self.list, 1),
            label("It becomes", size=11.5, name="soft"),
            self.becomes,
            self.line,
            self.even,
            late,
            row((self.hearing, self.put)),
        )

    def _connect(self) -> None:
        taker = self.taker
        taker.moved.connect(self._follow)
        taker.took.connect(self._took)
        taker.measured.connect(self._measured)
        taker.failed.connect(self._failed)
        self.even.toggled.connect(lambda _on: self._show_takes())
        self.list.currentItemChanged.connect(lambda *_: self._pointed())
        self.list.itemActivated.connect(lambda *_: self.hear())
        self._session.opened.connect(self._forget)
        self._session.selected.connect(self._show_hands)
        self._session.changed.connect(lambda _b, _a: self._show_takes())

    # --- what is asked ------------------------------------------------------------------------

    def _choose_source(self, _at: int) -> None:
        name = self.source.chosen
        self._session.preferences.remember(microphone=name)
        self.level.forget()
        self.taker.open(name)

    def _choose_over(self, over: object) -> None:
        assert isinstance(over, Over)
        self._over = over
        self._show()

    def _choose_what(self, pitched: object) -> None:
        self._pitched = bool(pitched)

    def _choose_becomes(self, becomes: object) -> None:
        self._becomes = str(becomes)
        self._show()

    # --- taking -------------------------------------------------------------------------------

    def swap(self) -> None:
        """Begin to take, or stop."""
        if self.taker.busy:
            self.taker.finish()
        else:
            self._stop_hearing()
            self.level.forget()
            again = self._again_of()
            self.taker.begin(self._over, pitched=self._pitched, instead_of=again)
        self._show()

    def _again_of(self) -> str:
        """The layer whose place the next take is to have, or none."""
        if self._becomes == NEW:
            return ""
        layers = self._session.loop.layers
        recorded = {layer.id for layer in layers if layer.recorded is not None}
        for layer_id in (self._session.selection.layer_id, self._layer):
            if layer_id in recorded:
                return layer_id
        return ""

    def _follow(self) -> None:
        self.level.show_level(*self.taker.level())
        self._show()

    def _took(self, take: object) -> None:
        assert isinstance(take, Take)
        self._show_takes()
        self._point_at(take)
        self._with(take, partial(self._put, take))

    def _measured(self, late_ms: object) -> None:
        if late_ms is None:
            self._failed(
                "the sweeps were not recorded clearly; turn the speaker up, hold the microphone "
                "to it, and measure again"
            )
        else:
            self._session.say(
                f"The latency is {late_ms:.1f} ms; takes are moved earlier by that", good=True
            )

    def _failed(self, what: object) -> None:
        if not isinstance(what, Cancelled):
            self._session.say(error_words(what) if isinstance(what, Exception) else str(what))
        self._show()

    # --- takes --------------------------------------------------------------------------------

    @property
    def pointed(self) -> Take | None:
        """The take that is looked at."""
        row = self.list.indexOfTopLevelItem(self.list.currentItem())
        takes = self.taker.takes
        return takes[row] if 0 <= row < len(takes) else None

    def _point_at(self, take: Take) -> None:
        with QSignalBlocker(self.list):
            self.list.setCurrentItem(self.list.topLevelItem(self.taker.takes.index(take)))
        self._show_hands()

    def _pointed(self) -> None:
        self._preview.end()
        self._show_hands()
        if self.pointed is not None and self.list.hasFocus():
            self._rest.come()

    def _show_takes(self) -> None:
        """List the takes again, the chosen one staying chosen."""
        chosen = self.pointed
        loop = self._session.loop
        there = {layer.id: layer.name for layer in loop.layers}
        with QSignalBlocker(self.list):
            self.list.clear()
            for take in self.taker.takes:
                item = QTreeWidgetItem(self._row(take, there))
                item.setToolTip(0, f"{item.text(0)}\n{OVER_TIP}")
                self.list.addTopLevelItem(item)
        if chosen in self.taker.takes:
            assert chosen is not None
            self._point_at(chosen)
        self._show()

    def _row(self, take: Take, there: dict[str, str]) -> list[str]:
        ready = self._ready.get((take.number, self.even.isChecked()))
        says = [take.over.value, f"{take.seconds:.2f} s", f"{number(take.peak_db, '.1f')} dBFS"]
        if ready is not None and ready.over_db is not None:
            says.append(f"{number(ready.over_db, '+.1f')} dB over the loop")
        places = [there[x] for x, n in self._put_in.items() if n == take.number and x in there]
        first = f"{take.name} is {', '.join(places)}" if places else take.name
        if take.turn.cut_off:
            says.append(f"cut off at {plural(take.turn.cut_off, 'place')}")
        if not take.turn.whole:
            says.append("shorter than the loop")
        return [f"{first}\n{' · '.join(says)}"]

    def _with(self, take: Take, then: Callable[[Ready], object]) -> None:
        """Do something with a take once it is ready to go into the loop."""
        even = self.even.isChecked()
        name = (take.number, even)
        if name in self._ready:
            then(self._ready[name])
            return
        clips = self._session.clips

        def came(ready: Ready) -> None:
            self._ready[name] = ready
            self._show_takes()
            then(ready)

        def work(_stale: object, _moved: object) -> Ready:
            audio = made_ready(take.turn.audio, take.rate) if even else take.turn.audio
            heard = listen_to(audio, take.rate)
            clip = clips.record(audio, take.rate)
            facts = facts_of_take(take.key, heard, take.name, take.lead_s, pitched=take.pitched,
                                  in_time=take.in_time, tempo=take.tempo, by=take.by)  # fmt: skip
            return Ready(clip, facts, room_of(take, audio, facts))

        self._tasks.run(READY_TASK, work, came, self._failed, lane=Lane.READING)

    def hear(self) -> None:
        """Hear the take in the loop, or stop that."""
        self._rest.stop()
        take = self.pointed
        if self._preview.on:
            self._stop_hearing()
        elif take is not None and not self.taker.busy:
            self._with(take, partial(self._hear, take))

    def _hear(self, take: Take, ready: Ready) -> None:
        if self.pointed is not take or not self.isVisible() or self.taker.busy:
            return
        self._preview.hear(self._edit(ready), f"playing with {take.name}")
        self._show_hands()

    def _stop_hearing(self) -> None:
        self._rest.stop()
        self._preview.stop()

    def _edit(self, ready: Ready) -> Callable[[Loop], Loop]:
        layer_id, finish = self._again_of(), self.line.finish
        return lambda loop: put_take(loop, ready.clip, ready.facts, layer_id, finish)

    def put_in(self) -> None:
        """Put the take into the loop: as a layer, or in a take's place."""
        take = self.pointed
        if take is not None:
            self._with(take, partial(self._put, take))

    def _put(self, take: Take, ready: Ready) -> None:
        self._preview.settle()
        session, layer_id = self._session, self._again_of()
        words = "another take" if layer_id else "a take"
        if not session.apply(words, self._edit(ready)):
            return
        self._layer = layer_id or session.loop.layers[-1].id
        self._put_in[self._layer] = take.number
        self._becomes = AGAIN  # who sings once more wants to sing it better
        self.becomes.show_choice(AGAIN)
        session.select(layer_id=self._layer)
        session.say(put_words(take, ready, session.loop.layer(self._layer).name), good=True)
        self._show_takes()

    # --- showing ------------------------------------------------------------------------------

    def _show(self) -> None:
        taker, state = self.taker, self.taker.state
        self.take.setText("Record" if not taker.busy or state is State.MEASURES else "Stop")
        self.take.setEnabled(state not in (State.OFF, State.ENDS, State.MEASURES))
        for one in (self.over, self.what, self.source, self.measure):
            one.setEnabled(not taker.busy)
        self.source.setEnabled(not taker.busy and self.source.count() > 1)
        self.line.setEnabled(self._becomes == NEW)
        if float(self.late.value) != round(taker.late_ms, 1):
            self.late.set_value(round(taker.late_ms, 1))
        self.says.setText(self._words())
        set_look(self.says, "signal" if self.level.cut_off else "soft")
        self._show_hands()

    def _words(self) -> str:
        taker, state = self.taker, self.taker.state
        if self.level.cut_off:
            return "The microphone clipped: turn its level down and record again."
        if state is State.TAKES:
            nothing = self._over is Over.NOTHING
            return f"Recording, {taker.seconds:.1f} s" + (
                "" if nothing else ("; each pass of the loop is a take, until you stop")
            )
        if state in SAYS:
            return SAYS[state]
        if not taker.takes:
            stands_in = " No microphone: a stand-in singer records." if (taker.stands_in) else ""
            return f"No takes yet: choose what to record to and press Record.{stands_in}"
        again = self._again_of()
        into = (
            f"replaces {self._session.loop.layer(again).name}" if again else ("becomes a new layer")
        )
        return f"{plural(len(taker.takes), 'take')}, kept while the loop is open. The next {into}."

    def _show_hands(self) -> None:
        there = self.pointed is not None and not self.taker.busy
        self.hearing.setEnabled(there)
        self.put.setEnabled(there)
        self.hearing.setText("Stop" if self._preview.on else "Play it")
        for one in (self.list, self.hearing, self.put):  # without takes they could do nothing
            one.setVisible(bool(self.taker.takes))

    # --- coming and going ---------------------------------------------------------------------

    def _forget(self) -> None:
        self._tasks.cancel(READY_TASK)
        self._ready.clear()
        self._put_in.clear()
        self._layer, self._becomes = "", NEW
        self.becomes.show_choice(NEW)
        self._show_takes()

    def showEvent(self, _event: QShowEvent | None) -> None:
        self.line.fill()
        self.source.fill(self._session.preferences.now.microphone)
        self.taker.open(self.source.chosen)

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self._stop_hearing()
        self.taker.close()

    def stop(self) -> bool:
        if self._preview.on:
            self._stop_hearing()
        elif self.taker.busy:
            self.taker.finish()
        else:
            return False
        return True
