"""What is said where there is no note, and how notes are drawn."""

EMPTY = "No notes yet. Double-click to draw one, or record them (F6)."


HINT = (
    "Double-click draws a note; drag its end for its length (Shift: half the grid). Drag notes to "
    "move them, with Shift by semitones, with Ctrl a copy; drag over empty space to "
    "select.\nBelow, drag for velocity; with Shift a straight ramp.\nKeys: arrows move (Shift "
    "finer, Ctrl octave or length), Del delete, M mute, V same voice, P same pitch, E every "
    "other,\nX split at the playhead, Ctrl+A all, Ctrl+C, Ctrl+V, Ctrl+J duplicate, Page Up/Down "
    "next note, + − 0 zoom; Alt while dragging ignores the grid."
)
