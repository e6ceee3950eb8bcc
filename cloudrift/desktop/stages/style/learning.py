"""Learning a card from loops, MIDI files and recordings: measured beside the interface."""

from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtWidgets import QLineEdit, QProgressBar, QTreeWidgetItem, QWidget

from cloudrift.desktop.kit.asking import ask_for_files
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, label
from cloudrift.desktop.kit.tables import table
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.marking import Marking
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED, plural
from cloudrift.loop.edits import loop_edits
from cloudrift.style.card_files import save_card
from cloudrift.style.examples import measured
from cloudrift.style.learn import LEAST, MOST, SURE, Example, Learnt, learn
from cloudrift.style.marks import KINDS

LEARNING = "learn a card"
FILES = "Loops, MIDI files and recordings (*.cloudrift *.mid *.midi *.wav *.flac *.ogg *.mp3)"


class Learning(QWidget):
    """Files in, a drafted card out: each mark with its range and its count of examples."""

    def __init__(self, session: Session, tasks: Tasks, marking: Marking) -> None:
        super().__init__()
        self._session, self._tasks, self._marking = session, tasks, marking
        self.learnt: Learnt | None = None
        says = label(
            f"Choose {LEAST} to {MOST} loops, MIDI files or recordings. What they have in common "
            "becomes a card of your own: ranges of marks, chord grammar, sounds. Notes and audio "
            "are not copied.",
            size=12,
            wrap=True,
        )
        self.choose = button("Choose files…", self._choose, name="strong")
        self.stop = button("Cancel", self.cancel)
        self.stop.hide()
        self.bar = QProgressBar()
        self.bar.hide()
        self.words = label("", size=11.5, name="soft", wrap=True)
        self.table = table(
            ("Mark", "Asks for", "Examples", ""), (220, 330, 80, 120), "The drafted card"
        )
        self.name = QLineEdit()
        self.name.setMaxLength(NAME_TYPED)
        self.name.setPlaceholderText("Name of the card")
        self.name.setAccessibleName("Name of the card")
        self.name.textChanged.connect(lambda _text: self._show_keep())
        self.keep = button("Save it, and use it here", self.keep_it)
        column = vertical(self, FLUSH)
        column.addWidget(says)
        row = horizontal()
        for one in (self.choose, self.stop):
            row.addWidget(one)
        fill(row, (self.bar, 1), 1)
        fill(column, row, self.words, (self.table, 1))
        last = horizontal()
        fill(last, (self.name, 1), self.keep)
        column.addLayout(last)
        self._show_keep()

    def _choose(self) -> None:
        paths = ask_for_files(self, self._session, "Learn from", FILES)
        if paths:
            self.learn_from(paths)

    def learn_from(self, paths: list[Path]) -> None:
        """Measure files beside the interface, then draft a card."""
        count = len(paths)
        self.stop.show()
        self.bar.setRange(0, count)
        self.bar.show()
        self.choose.setEnabled(False)

        def work(stale: object, moved: object) -> tuple[list[Example], list[str]]:
            return measured(paths, stale, lambda i, name: moved(i / count, name))  # type: ignore[operator, arg-type]

        def came(got: tuple[list[Example], list[str]]) -> None:
            self._rest()
            examples, wrong = got
            try:
                self._show(learn("Learnt", examples), len(examples), wrong)
            except CloudriftError as error:
                self.words.setText("\n".join([str(error), *wrong[:4]]))

        def failed(error: Exception) -> None:
            self._rest()
            if not isinstance(error, Cancelled):
                self.words.setText(error_words(error))

        def moved(share: float, name: str) -> None:
            self.bar.setValue(round(share * count))
            self.words.setText(f"measuring {name}…")

        self._tasks.run(LEARNING, work, came, failed, moved, lane=Lane.ASKING)

    def cancel(self) -> None:
        """Leave what is being measured."""
        self._tasks.cancel(LEARNING)

    def _rest(self) -> None:
        self.stop.hide()
        self.bar.hide()
        self.choose.setEnabled(True)
        self.words.setText("")

    def _show(self, learnt: Learnt, count: int, wrong: list[str]) -> None:
        self.learnt = learnt
        self.table.clear()
        for name, asked in learnt.card.marks.items():
            kind, examples = KINDS[name], learnt.counts.get(name, 0)
            sure = "a guess" if examples < SURE else ""
            self.table.addTopLevelItem(
                QTreeWidgetItem(
                    [kind.label, kind.asks(asked), str(examples), sure]  # type: ignore[arg-type]
                )
            )
        layers = ", ".join(layer.name for layer in learnt.card.layers)
        self.words.setText(
            "\n".join(
                [
                    f"{plural(len(learnt.card.marks), 'mark')} from {plural(count, 'example')}; "
                    f"{plural(len(learnt.card.chords.next), 'chord')} in its grammar; "
                    f"layers: {layers}",
                    *wrong[:4],
                ]
            )
        )
        self._show_keep()

    def _show_keep(self) -> None:
        self.keep.setEnabled(self.learnt is not None and bool(self.name.text().strip()))

    def keep_it(self) -> None:
        """Keep the drafted card under its name, and let the open loop be in its style."""
        if self.learnt is None:
            return
        try:
            card = save_card(replace(self.learnt.card, name=self.name.text().strip()))
        except CloudriftError as error:
            self._session.say(str(error))
            return
        self._marking.read_cards()
        self._session.apply(
            f"style card {card.name}", lambda loop: loop_edits.set_style(loop, card.name)
        )
        self._session.say(f"{card.name} is saved, and used in this loop", good=True)
