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
        Part(name="loop", label="The loop", about="seamless, after all treatments"),
        Part(
            name="bare",
            label="Before the loop's treatments",
            about="the sum of the stems, as it enters the whole loop's treatments",
        ),
        Part(
            name="pass",
            label="One pass with its tail",
            about="from silence until the tail has decayed",
        ),
        Part(name="long", label="Long form", about="four times from silence, then its tail"),
        Part(
            name="stems",
            label="Stems",
            about="the parts the loop is the sum of, and that sum: layers, and each group as one",
        ),
        Part(name="dry", label="Dry layers", about="each layer before its treatments"),
        Part(
            name="voice",
            label="Vocals and instrumental",
            about="vocals alone, and the loop without them, after all treatments",
        ),
        Part(
            name="bass",
            label="Bass and the rest",
            about="the bass alone, and the loop without it, after all treatments",
        ),
        Part(
            name="midi", label="MIDI, as written", about="the notes as played, one track per layer"
        ),
        Part(
            name="heard midi",
            label="MIDI, as it sounds",
            about="the notes that sound, after all treatments; of prints and flips too",
        ),
        Part(name="layer midi", label="MIDI, one file per layer", about="the notes as played"),
        Part(
            name="sounds",
            label="One-shots",
            about="each sound in use, played once, without treatments",
        ),
        Part(name="pieces", label="Pieces of flips", about="the audio at each place"),
        Part(name="prints", label="Prints", about="each print as it is"),
        Part(
            name="bed",
            label="The groove bed",
            about="the loop with it, the bed alone, and its lanes and MIDI if selected",
        ),
        Part(name="arrangement", label="The arrangement", about="the whole of it, start to end"),
        Part(name="demo", label="The demo file", about="its parts in order, and a cue sheet"),
        Part(name="rights", label="The rights sheet", about="as text, table and web page"),
    )
}

PRESETS: dict[str, tuple[str, ...]] = {
    "Loop alone": ("loop",),
    "Loop and stems": ("loop", "stems", "midi"),
    "For flipping": ("loop", "bare", "pass", "long", "stems", "voice", "bass", "midi", "sounds",
                      "demo", "rights"),
    "Everything": tuple(PARTS),
}  # fmt: skip


def find_preset(name: str) -> tuple[str, ...]:
    """Return the parts of a preset, whatever case it is typed in."""
    by_name = {one.casefold(): parts for one, parts in PRESETS.items()}
    if name.casefold() not in by_name:
        raise CloudriftError(f"there is no preset called {name!r}{did_you_mean(name, PRESETS)}")
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
                raise CloudriftError(f"there is no part called {name!r}{did_you_mean(name, PARTS)}")
        if not self.parts:
            raise CloudriftError("nothing is selected; choose the files to export")
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
