"""What a style asks, held against a loop: what is met, what is not, and what would meet it."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sections import Arrangement
from cloudrift.render.measure.sound_facts import SoundFacts
from cloudrift.style.marks.catalogue import KINDS
from cloudrift.style.marks.kind import Asked, Change, Found, Kind, is_range
from cloudrift.style.marks.view import View

Asks = Mapping[str, tuple[float | str, ...]]


@dataclass(frozen=True, kw_only=True)
class Mark:
    """One thing that is asked, and what was found; None where there is nothing to measure it on.

    ``asked`` is None for what the style leaves open. ``waits``: the sound is not known yet.
    """

    kind: Kind
    asked: Asked | None
    found: Found | None
    waits: bool = False

    @property
    def met(self) -> bool:
        """Whether it is asked and met."""
        asked, found = self.asked, self.found
        return asked is not None and found is not None and self.kind.met(found.value, asked)

    @property
    def missed(self) -> bool:
        """Whether it is asked, can be said, and is not met."""
        return self.asked is not None and not self.waits and not self.met

    @property
    def found_text(self) -> str:
        """What was found, with its unit."""
        if self.waits:
            return "…"
        return "none" if self.found is None else self.kind.text(self.found.value)

    @property
    def away(self) -> float:
        """How far what was found lies from what is asked, against the width of that; 0 inside."""
        if self.found is None or self.asked is None:
            return 1.0
        if isinstance(self.found.value, str) or not is_range(self.asked):
            return 0.0 if self.met else 1.0
        low, high = (self.kind.share(float(end)) for end in self.asked)
        at = self.kind.share(self.found.value)
        outside = max(low - at, at - high, 0.0)
        return outside / max(high - low, 0.05)


def checked(asks: Asks, where: str) -> tuple[dict[str, Asked], tuple[str, ...]]:
    """Return what can be asked of what is, and sentences about the rest."""
    good: dict[str, Asked] = {}
    wrong = []
    for name, asked in asks.items():
        try:
            if name not in KINDS:
                raise CloudriftError(
                    f"{where}: there is no mark called {name!r}{did_you_mean(name, KINDS)}"
                )
            good[name] = KINDS[name].check(asked, where)
        except CloudriftError as error:
            wrong.append(str(error))
    return good, tuple(wrong)


def look(
    asks: Mapping[str, Asked],
    loop: Loop,
    sound: SoundFacts | None = None,
    *,
    all_: bool = False,
    arrangement: Arrangement | None = None,
) -> tuple[Mark, ...]:
    """Hold a loop against what is asked; ``all_``: measure what is not asked, too."""
    view = View(loop, sound, arrangement)
    arranged = arrangement is not None and bool(arrangement.sections)
    out = []
    for name, kind in KINDS.items():
        asked = asks.get(name)
        lacks = (kind.needs_bed and loop.bed is None) or (kind.needs_form and not arranged)
        if (asked is None and not all_) or lacks:
            continue
        waits = kind.needs_sound and sound is None
        found = None if waits else kind.measure(view)
        out.append(Mark(kind=kind, asked=asked, found=found, waits=waits))
    return tuple(out)


def met_of(marks: Iterable[Mark]) -> tuple[int, int]:
    """Return how many marks are met, and how many are asked and can be said."""
    asked = [mark for mark in marks if mark.asked is not None and not mark.waits]
    return sum(mark.met for mark in asked), len(asked)


def change_for(mark: Mark, loop: Loop, sound: SoundFacts | None = None) -> Change | None:
    """Return an edit that would meet a mark that is missed; None where there is no simple one.

    One that would change nothing, can't be, or would not meet it is none; of what is measured on
    the sound, that is only known when the sound has followed.
    """
    if not mark.missed or mark.asked is None:
        return None
    view = View(loop, sound)
    try:
        if isinstance(mark.asked[0], str):
            words = tuple(str(word) for word in mark.asked)
            change = (
                mark.kind.change_word(view, words)
                if mark.kind.change_word and (mark.found is not None)
                else None
            )
        else:
            low, high = (float(end) for end in mark.asked)
            change = mark.kind.change(view, (low, high)) if mark.kind.change else None
        after = None if change is None else change.edit(loop)
        if after is None or after == loop:
            return None
        found = None if mark.kind.needs_sound else mark.kind.measure(View(after))
    except CloudriftError:
        return None
    meets = found is not None and mark.kind.met(found.value, mark.asked)
    return change if meets or mark.kind.needs_sound else None
