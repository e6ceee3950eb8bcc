"""What of the loop's style card is met: measured after each change, the sound when it stands."""

from collections.abc import Callable, Sequence
from typing import NamedTuple

from msgspec.structs import replace
from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Rendered
from cloudrift.render.measure.sound_facts import SoundFacts, facts_of_loop
from cloudrift.style import Card, known_cards
from cloudrift.style.marks import Mark, checked, look, met_of

MEASURING = "the sound's marks"
MOST_SAID = 3
SOON_MS = 60


class CardMarks(NamedTuple):
    """What was seen of a loop: what of its card cannot be measured, and its marks."""

    problems: tuple[str, ...]
    marks: tuple[Mark, ...]


class Marking(QObject):
    """The marks of the open loop against its card. ``changed`` when they are others."""

    changed = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session)
        self._session, self._tasks = session, tasks
        self._sound: SoundFacts | None = None
        self._looked: CardMarks | None = None  # none: the loop has changed since
        self._cards = known_cards()
        self._soon = single_shot(self, self.changed, SOON_MS)
        session.settled.connect(self.refresh)
        session.opened.connect(self._begin)
        session.hearing.sound_changed.connect(self._measure)
        self.refresh()

    @property
    def cards(self) -> dict[str, Card]:
        """The cards there are, by name."""
        return self._cards

    def read_cards(self) -> None:
        """Look for own cards again: there is another one."""
        self._cards = known_cards()
        self.refresh()

    @property
    def waits(self) -> bool:
        """Whether it is still to be said that what is met has changed."""
        return self._soon.isActive()

    @property
    def sound(self) -> SoundFacts | None:
        """What was measured last of the loop's sound."""
        return self._sound

    def _begin(self) -> None:
        self._sound = None
        self.refresh()

    def refresh(self, *_: object) -> None:
        """What was seen no longer holds; look again when asked, and say so in a moment.

        Looking takes longer than a step back may: a run of steps is looked at once.
        """
        self._looked = None
        self._soon.start()

    @property
    def card(self) -> Card | None:
        """The card of the open loop; none without."""
        return self._cards.get(self._session.loop.style)

    @property
    def problems(self) -> tuple[str, ...]:
        """What the card asks that nobody could measure, in words."""
        return self._look().problems

    @property
    def marks(self) -> tuple[Mark, ...]:
        """The open loop held against its card, mark by mark."""
        return self._look().marks

    def _look(self) -> CardMarks:
        """Hold the open loop against its card, where it has changed since the last look."""
        if self._looked is None:
            loop, card = self._session.loop, self.card
            asks, problems = checked(card.marks, card.name) if card else ({}, ())
            arrangement = self._session.document.history.now.arrangement
            found = look(asks, loop, self._sound, arrangement=arrangement) if card else ()
            self._looked = CardMarks(problems, found)
        return self._looked

    def _measure(self, rendered: Rendered) -> None:
        """The sound of the open loop stands: measure it beside the interface."""
        if self.card is None or not _same(rendered.loop, self._session.loop):
            return
        loop, engine = rendered.loop, self._session.engine

        def came(facts: SoundFacts) -> None:
            if facts != self._sound:
                self._sound = facts
                self.refresh()

        def work(stale: Callable[[], bool], _moved: object) -> SoundFacts:
            return facts_of_loop(engine, loop, stale)

        self._tasks.run(MEASURING, work, came)

    @property
    def met(self) -> tuple[int, int]:
        """How many marks are met, of how many that can be said."""
        return met_of(self.marks)

    def missed_in(self, groups: Sequence[str]) -> str:
        """Say which marks of some groups are missed, in a line; none where all are met."""
        missed = [mark for mark in self.marks if mark.missed and mark.kind.group in groups]
        if not missed or self.card is None:
            return ""
        said = [_said(mark) for mark in missed[:MOST_SAID]]
        more = f" and {len(missed) - MOST_SAID} more" if len(missed) > MOST_SAID else ""
        return f"{self.card.name} asks for {', '.join(said)}{more}"

    @property
    def words(self) -> str:
        """The same in words; none without a card."""
        met, asked = self.met
        return f"{met} of {asked} met" if asked else ""


def _said(mark: Mark) -> str:
    """What a card asks of a mark, and what it is now: "tempo 134 to 153 BPM (now 90 BPM)"."""
    assert mark.asked is not None
    label, asks = mark.kind.label.lower(), mark.kind.asks(mark.asked)
    first, _, rest = label.partition(" ")
    if mark.kind.unit and mark.kind.unit.rstrip("s") == first.rstrip("s"):
        label, asks = asks, rest  # "5 to 6 sections", not "sections 5 to 6 sections"
    return f"{' '.join(filter(None, (label, asks)))} (now {mark.found_text})"


def _same(one: Loop, other: Loop) -> bool:
    """Whether two loops sound the same, at whatever rate."""
    return one is other or replace(one, rate=other.rate) == other
