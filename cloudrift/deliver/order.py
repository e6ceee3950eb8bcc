"""What is asked to be written: which parts, in which format, under which names."""

from dataclasses import dataclass, field

from cloudrift.audio.buffers import RATES
from cloudrift.audio.sound_file import FLOATING, find_format
from cloudrift.deliver.checks.spec import check_target
from cloudrift.deliver.names import PATTERN, check_pattern
from cloudrift.ground.errors import CloudriftError, did_you_mean

FILE_RATES = (*RATES, 96_000)  # Hz; what is higher than the loop's own is raised for the file


@dataclass(frozen=True, kw_only=True)
class Part:
    """Something that can be written of a loop, in words."""

    name: str
    label: str
    about: str


PARTS: dict[str, Part] = {
    one.name: one
    for one in (
        Part(name="loop", label="The loop", about="as it goes round, behind all treatments"),
        Part(
            name="bare",
            label="Without the whole loop's treatments",
            about="the sum of the stems, as it goes into them",
        ),
        Part(
            name="pass", label="One pass with its tail", about="from silence, until it has rung out"
        ),
        Part(name="long", label="Long form", about="four turns from silence, then its tail"),
        Part(
            name="stems",
            label="Stems",
            about="what the loop is the sum of, and that sum: layers, and groups as one",
        ),
        Part(name="dry", label="Dry layers", about="each layer in front of its own treatments"),
        Part(
            name="voice",
            label="The voice apart",
            about="voices alone, and all without them, behind all treatments",
        ),
        Part(
            name="bass",
            label="The bass apart",
            about="the bass alone, and all without it, behind all treatments",
        ),
        Part(name="midi", label="MIDI, as written", about="the notes as played, a track a layer"),
        Part(
            name="heard midi",
            label="MIDI, as heard",
            about="the same in the key and tempo that are heard",
        ),
        Part(name="layer midi", label="MIDI, a file a layer", about="the notes as played"),
        Part(
            name="sounds",
            label="One-shots",
            about="each sound that is used, struck once, without treatments",
        ),
        Part(name="pieces", label="Pieces of flips", about="what plays at each of their places"),
        Part(name="prints", label="Prints", about="each print as it was made"),
        Part(
            name="bed",
            label="The groove bed",
            about="the loop with it, it alone, and its lanes and MIDI where those are asked for",
        ),
        Part(name="arrangement", label="The arrangement", about="all of it, from top to end"),
        Part(
            name="demo",
            label="The demo file",
            about="its parts one after another, as drawn on its page, and a sheet of them",
        ),
        Part(name="rights", label="The rights sheet", about="as text, table and page"),
    )
}

PRESETS: dict[str, tuple[str, ...]] = {
    "Loop alone": ("loop",),
    "Loop and stems": ("loop", "stems", "midi"),
    "To be flipped": ("loop", "bare", "pass", "long", "stems", "voice", "bass", "midi", "sounds",
                      "demo", "rights"),
    "Everything": tuple(PARTS),
}  # fmt: skip


def find_preset(name: str) -> tuple[str, ...]:
    """Return the parts of a preset, whatever case it is typed in."""
    by_name = {one.casefold(): parts for one, parts in PRESETS.items()}
    if name.casefold() not in by_name:
        raise CloudriftError(f"no preset is called {name!r}{did_you_mean(name, PRESETS)}")
    return by_name[name.casefold()]


@dataclass(frozen=True, kw_only=True)
class Order:
    """What to write.

    Parameters
    ----------
    parts : names of ``PARTS``; they are written in that order.
    format_name, bits : of sound files; ``rate`` 0 keeps the loop's own.
    once : one pass with its tail in the place of each loop.
    dither : whether integers are dithered.
    lower : all files are turned down by one gain, as far as the one that would clip most needs.
    target_lufs : all files get the gain that brings the loop there, as far as its peak allows.
    pattern : of the names (``names.named``).
    """

    parts: tuple[str, ...] = ("loop",)
    format_name: str = "wav"
    bits: int = 24
    rate: int = 0
    once: bool = False
    dither: bool = True
    lower: bool = False
    target_lufs: float | None = None
    pattern: str = field(default=PATTERN)

    def __post_init__(self) -> None:
        for name in self.parts:
            if name not in PARTS:
                raise CloudriftError(
                    f"no part of a loop is called {name!r}{did_you_mean(name, PARTS)}"
                )
        if not self.parts:
            raise CloudriftError("nothing is asked for; choose what is to be written")
        of = find_format(self.format_name)
        if of.bits and self.bits not in of.bits:
            raise CloudriftError(
                f"bits must be {' or '.join(map(str, of.bits))} in {of.label}, not {self.bits}"
            )
        if self.rate and self.rate not in FILE_RATES:
            rates = ", ".join(map(str, FILE_RATES[:-1]))
            raise CloudriftError(f"rate must be {rates} or {FILE_RATES[-1]} Hz, not {self.rate}")
        check_target(self.target_lufs)
        check_pattern(self.pattern)

    @property
    def clips(self) -> bool:
        """Whether its files hold nothing over full scale."""
        return self.format_name != "wav" or self.bits != FLOATING

    def asks(self, *names: str) -> bool:
        """Whether any of some parts is asked for."""
        return any(name in self.parts for name in names)
