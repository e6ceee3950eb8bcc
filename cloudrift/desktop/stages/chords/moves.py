"""What hands do to chords, whichever picture or key they do it with: each is one edit, heard."""

from collections.abc import Callable

from cloudrift.desktop.kit.grid import Grid
from cloudrift.desktop.session.session import Session
from cloudrift.loop.edits.chords import chord_edits, chord_time
from cloudrift.loop.model.loop import Loop

OCTAVE = 12


class Moves:
    """Edits of the selected chords and voice. A drag passes its name as ``merge``."""

    def __init__(self, session: Session, grid: Grid) -> None:
        self.session = session
        self.grid = grid

    @property
    def ids(self) -> tuple[str, ...]:
        """The selected chords."""
        return self.session.selection.chord_ids

    def apply(self, label: str, edit: Callable[[Loop], Loop], *, merge: str = "") -> bool:
        """Change the loop; a drag's steps are one."""
        return self.session.apply(label, edit, merge=merge, moving=bool(merge))

    # --- choosing -----------------------------------------------------------------------------

    def choose(self, chord_id: str, *, add: bool = False, to: bool = False) -> None:
        """Select a chord: alone, beside those selected, or all from the one in front to it."""
        session, selection = self.session, self.session.selection
        ids = [c.id for c in session.loop.chords]
        if to and selection.chord_id in ids:
            a, b = sorted((ids.index(selection.chord_id), ids.index(chord_id)))
            more = tuple(i for i in ids[a : b + 1] if i != selection.chord_id)
            session.select(more=more, voice=-1)
        elif add and chord_id in selection.more:
            session.select(more=tuple(i for i in selection.more if i != chord_id))
        elif add and chord_id != selection.chord_id and selection.chord_id:
            session.select(more=(*selection.more, chord_id), voice=-1)
        elif not add:
            session.select(chord_id=chord_id, more=(), voice=-1, through=False)

    def choose_all(self) -> None:
        """Select every chord."""
        ids = [c.id for c in self.session.loop.chords]
        front = self.session.selection.chord_id
        self.session.select(more=tuple(i for i in ids if i != front), voice=-1)

    def step(self, by: int, *, extend: bool = False) -> None:
        """Go to the next chord or the one before, round the loop."""
        ids = [c.id for c in self.session.loop.chords]
        selection = self.session.selection
        if not ids:
            return
        if extend:
            chosen = [ids.index(i) for i in self.ids]
            at = max(chosen) + 1 if by > 0 else min(chosen) - 1
            if 0 <= at < len(ids):
                self.choose(ids[at], add=True)
            return
        at = ids.index(selection.chord_id) + by
        self.choose(ids[at % len(ids)])
        self.session.hearing.once.edit(self.session.selection.chord_id)

    def step_voice(self, by: int) -> None:
        """Go to the voice above or below."""
        selection = self.session.selection
        if selection.chord_id:
            count = len(self.session.loop.chord(selection.chord_id).voices)
            voice = (selection.voice + by) % count if selection.voice >= 0 else 0
            self.session.select(voice=voice)

    # --- pitch --------------------------------------------------------------------------------

    def voice(self, *, steps: int = 0, semitones: int = 0, merge: str = "") -> None:
        """Move the selected voice, in this chord or all through, and keep it selected."""
        session, selection = self.session, self.session.selection
        chord_id, voice = selection.chord_id, selection.voice
        before = session.loop.chord(chord_id).voices
        others = [v for i, v in enumerate(before) if i != voice]
        only = selection.chord_ids if selection.more else ()

        def edit(loop: Loop) -> Loop:
            if selection.through:
                return chord_edits.move_voice_through(
                    loop, chord_id, voice, steps=steps, semitones=semitones, only=only
                )
            return chord_edits.move_voice(loop, chord_id, voice, steps=steps, semitones=semitones)

        self.apply(
            "move a voice through" if selection.through else "move a voice", edit, merge=merge
        )
        after = session.loop.chord(chord_id).voices
        there = next((i for i, v in enumerate(after) if v not in others), voice)
        session.select(voice=there)

    def chords(
        self, *, steps: int = 0, semitones: int = 0, merge: str = "", start: Loop | None = None
    ) -> None:
        """Move the selected chords whole; a drag counts from the loop that it started with."""
        ids = self.ids
        self.apply(
            "move chords" if len(ids) > 1 else "move a chord",
            lambda loop: chord_edits.each(
                start or loop,
                ids,
                lambda p, i: chord_edits.move_chord(p, i, steps=steps, semitones=semitones),
            ),
            merge=merge,
        )

    def degree(self, degree: int) -> None:
        """Put the key's own chord of a degree in the place of the selected ones, as rich as it is.

        A triad stays a triad, a seventh chord a seventh chord.
        """
        ids = self.ids

        def put(loop: Loop, chord_id: str) -> Loop:
            chord = loop.chord(chord_id)
            count = len({v % 12 for v in chord.voices})
            return chord_edits.set_degree(loop, chord_id, degree, count=min(max(count, 3), 5))

        self.apply(f"degree {degree}", lambda loop: chord_edits.each(loop, ids, put))

    def add_voice(self, pitch: int | None = None) -> None:
        """Add a voice at a pitch, or at the next chord note above the selected one."""
        selection = self.session.selection
        chord_id = selection.chord_id
        if not chord_id:
            return
        if pitch is None:
            pitch = chord_edits.next_free_pitch(self.session.loop, chord_id, selection.voice)
        wanted = pitch
        if self.apply("add a voice", lambda loop: chord_edits.add_voice(loop, chord_id, wanted)):
            voices = self.session.loop.chord(chord_id).voices
            self.session.select(voice=voices.index(wanted), more=())

    def remove(self) -> None:
        """Take the selected voice out, or the selected chords."""
        selection, ids = self.session.selection, self.ids
        if not ids:
            return
        if selection.voice >= 0:
            chord_id, voice = selection.chord_id, selection.voice
            self.apply(
                "delete a voice", lambda loop: chord_edits.remove_voice(loop, chord_id, voice)
            )
            return
        order = [c.id for c in self.session.loop.chords]
        before = [i for i in order[: order.index(ids[0])] if i not in ids]
        self.session.apply("delete chords", lambda loop: chord_time.remove_chords(loop, ids))
        if before:
            self.session.select(chord_id=before[-1])

    def mute(self) -> None:
        """Silence the selected voice, or let it sound again."""
        selection = self.session.selection
        if selection.voice >= 0:
            self.apply(
                "mute a voice",
                lambda loop: chord_edits.mute_voice(loop, selection.chord_id, selection.voice),
            )

    def tie(self) -> None:
        """Tie the selected voice to the chord before, or strike it again; without one, all."""
        selection, ids = self.session.selection, self.ids
        if selection.voice >= 0:
            self.apply(
                "tie a voice",
                lambda loop: chord_edits.tie_voice(loop, selection.chord_id, selection.voice),
            )
        elif any(self.session.loop.chord(i).tied for i in ids):
            self.apply("untie chords", lambda loop: chord_edits.untie(loop, ids))
        else:
            self.apply("tie chords", lambda loop: chord_edits.hold_repeats(loop, ids))

    def rub(self) -> None:
        """Set a half-step neighbour against the selected voice."""
        selection = self.session.selection
        if selection.voice >= 0:
            self.apply(
                "half-step clash",
                lambda loop: chord_edits.add_rub(loop, selection.chord_id, selection.voice),
            )

    def through(self) -> None:
        """Mean the selected voice in all chords (or all selected ones), or in this one only."""
        selection = self.session.selection
        if selection.voice >= 0:
            self.session.select(through=not selection.through)

    # --- time ---------------------------------------------------------------------------------

    def end(self, by: int) -> None:
        """Let the chord in front end later or earlier by grid steps."""
        chord_id = self.session.selection.chord_id
        if chord_id:
            tick = self.session.loop.chord(chord_id).end_tick + by * self.grid.step
            self.apply("length of a chord", lambda loop: chord_time.set_end(loop, chord_id, tick))

    def start(self, by: int) -> None:
        """Let the chord in front start later or earlier by grid steps."""
        chord_id = self.session.selection.chord_id
        if chord_id:
            tick = self.session.loop.chord(chord_id).start_tick + by * self.grid.step
            self.apply("start of a chord", lambda loop: chord_time.set_start(loop, chord_id, tick))

    def late(self) -> None:
        """Strike the selected chords a grid step late, or on time if they all are late."""
        ids, loop = self.ids, self.session.loop
        if ids:
            on_time = all(loop.chord(i).late_ticks for i in ids)
            ticks = 0 if on_time else self.grid.step
            self.apply("late" if ticks else "on time", lambda p: chord_time.set_late(p, ids, ticks))

    def every_second_late(self) -> None:
        """Strike every second chord a grid step late, or all on time again."""
        ids = chord_time.every_second(self.session.loop)
        loop = self.session.loop
        ticks = 0 if ids and all(loop.chord(i).late_ticks for i in ids) else self.grid.step
        self.apply("every other one late", lambda p: chord_time.set_late(p, ids, ticks))
