"""What is said where there is no note, and how notes are drawn."""

EMPTY = "No notes yet. Double-click to draw one, or play them in (F6)."


HINT = (
    "Double-click draws a note; drag its end for its length (Shift: half of the grid). Drag notes "
    "to move them, with Shift by semitones, with Ctrl a copy; drag over empty ground to pick.\n"
    "Below, drag for loudness; with Shift a straight ramp.\n"
    "Keys: arrows move (Shift finer, Ctrl octave or length), Del out, M mute, V same voice, "
    "P same pitch, E every second,\nX cut at the playhead, Ctrl+A all, Ctrl+C, Ctrl+V, "
    "Ctrl+J copy behind, Page Up/Down next note, + − 0 zoom; Alt while dragging leaves the grid."
)
