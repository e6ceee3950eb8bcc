"""Tools that move notes in pitch, and around each other."""

from msgspec.structs import replace

from cloudrift.ground.settings import ResolvedSettings, SettingsSpec
from cloudrift.notes.note import Note
from cloudrift.notes.tools.tool import Tool, ToolContext, choice, count

TOP, LOW = "about the middle", "about the lowest"


def octave(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Move by octaves, or add a copy there."""
    by = 12 * round(full.number("octaves"))
    moved = [replace(n, pitch=n.pitch + by) for n in notes]
    if full.word("way") == "move":
        return moved
    return [*notes, *(replace(n, id=0) for n in moved)] if by else list(notes)


def in_scale(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Move up or down by scale steps; notes outside it go to the next in it first."""
    steps = round(full.number("steps"))
    return [replace(n, pitch=around.key.step(n.pitch, steps)) for n in notes]


def into_key(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Bring notes outside the scale to the nearest in it, the lower of two."""
    out = []
    for note in notes:
        near = min(
            (0, -1, 1, -2, 2),
            key=lambda d, p=note.pitch: (  # type: ignore[misc]
                not around.key.has(p + d),
                abs(d),
                d,
            ),
        )
        out.append(replace(note, pitch=note.pitch + near))
    return out


def mirror(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Turn what goes up into what goes down, about an axis, up or down by scale steps."""
    pitches = sorted(n.pitch for n in notes)
    axis = pitches[0] if full.word("axis") == LOW else pitches[len(pitches) // 2]
    if full.word("by") == "semitones":
        return [replace(n, pitch=2 * axis - n.pitch) for n in notes]
    return [replace(n, pitch=_mirrored(n.pitch, axis, around)) for n in notes]


def _mirrored(pitch: int, axis: int, around: ToolContext) -> int:
    """As many scale steps on the other side of the axis."""
    steps = sum(around.key.has(p) for p in range(min(pitch, axis) + 1, max(pitch, axis) + 1))
    if not steps:
        return pitch
    return around.key.step(axis, -steps if pitch > axis else steps)


def rearrange(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Let the pitches change places along the line, the rhythm staying as it is."""
    by = round(full.number("places")) % max(1, len(notes))
    pitches = [n.pitch for n in notes]
    pitches = pitches[by:] + pitches[:by]
    if full.word("way") == "backward":
        pitches = pitches[::-1]
    return [replace(n, pitch=p) for n, p in zip(notes, pitches, strict=True)]


TOOLS = (
    Tool(name="octave", group="Pitch", about="up or down by octaves", act=octave,
         spec=SettingsSpec((count("octaves", "By", 1, -3, 3, "oct"),
                            choice("way", "Way", ("move", "add a copy"))))),
    Tool(name="in the scale", group="Pitch", about="up or down by scale steps", act=in_scale,
         spec=SettingsSpec((count("steps", "By", 2, -14, 14, "steps"),))),
    Tool(name="into the key", group="Pitch", about="moves notes out of key to the nearest in key",
         act=into_key),
    Tool(name="mirror pitch", group="Pitch", about="mirrors the intervals", act=mirror,
         spec=SettingsSpec((choice("axis", "Axis", (TOP, LOW)),
                            choice("by", "By", ("scale steps", "semitones"))))),
    Tool(name="rearrange", group="Pitch", about="same rhythm, pitches in another order",
         act=rearrange,
         spec=SettingsSpec((count("places", "Shifted by", 1, 0, 15, "notes"),
                            choice("way", "Way", ("forward", "backward"))))),
)  # fmt: skip
