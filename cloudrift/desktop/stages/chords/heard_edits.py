"""A chord that an edit has made or changed is heard at once."""

from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.session.session import Session
from cloudrift.loop.model.loop import Loop


def chord_to_hear(before: Loop, after: Loop, front: str) -> str:
    """Return the id of the chord that tells best what an edit has done; none where none changed.

    The one that is new; the first, where several are or all have changed; else the chord in
    ``front`` if it has changed, or the first that has.
    """
    old = {chord.id: chord for chord in before.chords}
    made = [chord.id for chord in after.chords if chord.id not in old]
    changed = [chord.id for chord in after.chords if old.get(chord.id, chord) != chord]
    if len(made) == 1:
        return made[0]
    if made or 1 < len(changed) == len(after.chords):
        return after.chords[0].id
    return front if front in changed else next(iter(changed), "")


class HeardEdits:
    """Follows a session's edits while a view of its chords is shown."""

    def __init__(self, session: Session, view: QWidget) -> None:
        self._session, self._view = session, view
        session.changed.connect(self._hear)

    def _hear(self, before: Loop, after: Loop) -> None:
        if before.chords is not after.chords and self._view.isVisible():
            chord = chord_to_hear(before, after, self._session.selection.chord_id)
            if chord:
                self._session.hearing.once.edit(chord)
