"""Tools that change how loudly notes are played."""

from msgspec.structs import replace

from cloudrift.ground.draws import rng_for
from cloudrift.ground.settings import ResolvedSettings, SettingsSpec, percent
from cloudrift.notes.note import Note
from cloudrift.notes.tools.tool import VARIATION, Tool, ToolContext, by_start, count


def _loud(note: Note, velocity: float) -> Note:
    return replace(note, velocity=min(max(round(velocity), 1), 127))


def alternate(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Loud, soft, loud, soft: every second start is played at a share."""
    share, each = full.number("soft") / 100, round(full.number("each"))
    out = []
    for i, chord in enumerate(by_start(notes)):
        soft = i // each % 2
        out += [_loud(n, n.velocity * share) if soft else n for n in chord]
    return out


def flatten(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Play one velocity for allly."""
    return [_loud(n, full.number("velocity")) for n in notes]


def scale(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Play all louder or quieter, in proportion."""
    return [_loud(n, n.velocity * full.number("by") / 100) for n in notes]


def randomise(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Let loudness stray either way."""
    most, variation = full.number("spread"), round(full.number("variation"))
    return [
        _loud(
            n, n.velocity + most * rng_for(variation, "loud", n.start_tick, n.pitch).uniform(-1, 1)
        )
        for n in notes
    ]


def ramp(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Go from one velocity to another over the time that the notes take."""
    first, last = notes[0].start_tick, max(n.start_tick for n in notes)
    begin, end = full.number("begin"), full.number("end")
    return [
        _loud(n, begin + (end - begin) * (n.start_tick - first) / max(1, last - first))
        for n in notes
    ]


def accent(notes: tuple[Note, ...], around: ToolContext, full: ResolvedSettings) -> list[Note]:
    """Play what starts on a beat of the bar louder."""
    beat, every = around.bar_ticks, round(full.number("every"))
    step = max(1, beat // every)
    more = full.number("more")
    return [_loud(n, n.velocity + (more if n.start_tick % step == 0 else 0)) for n in notes]


TOOLS = (
    Tool(name="ramp", group="Velocity", about="from one velocity to another", act=ramp,
         spec=SettingsSpec((count("begin", "From", 40, 1, 127, "vel"),
                            count("end", "To", 110, 1, 127, "vel")))),
    Tool(name="alternate", group="Velocity", about="alternates loud and soft", act=alternate,
         spec=SettingsSpec((percent("soft", "The soft ones at", 60, low=5),
                            count("each", "Each for", 1, 1, 8, "starts")))),
    Tool(name="flatten", group="Velocity", about="one velocity for all", act=flatten,
         spec=SettingsSpec((count("velocity", "Velocity", 84, 1, 127, "vel"),))),
    Tool(name="scale", group="Velocity", about="all louder or quieter", act=scale,
         spec=SettingsSpec((percent("by", "To", 80, low=10, high=200),))),
    Tool(name="randomise", group="Velocity", about="random velocity", act=randomise,
         spec=SettingsSpec((count("spread", "At most", 10, 0, 60, "vel"), VARIATION))),
    Tool(name="accent", group="Velocity", about="accents beats of the bar", act=accent,
         spec=SettingsSpec((count("every", "A bar in", 2, 1, 16, "parts"),
                            count("more", "By", 20, 1, 80, "vel")))),
)  # fmt: skip
