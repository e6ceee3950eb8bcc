"""One delivery: a document in the rate that is asked for, rendered part by part."""

from collections.abc import Callable
from functools import cached_property
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.about import About, Cue
from cloudrift.audio.buffers import RATES, Stereo, to_gain
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.audio.resample import at_rate, resample_circular
from cloudrift.deliver.checks.spec import MOST_PEAK_DBTP
from cloudrift.deliver.demo_sound import demo_sound
from cloudrift.deliver.names import Naming, file_key, named
from cloudrift.deliver.order import Order
from cloudrift.deliver.rights import Sheet, rights_of
from cloudrift.loop.edits.arranging.arranging import add_section
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import Group, Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sections import Arrangement
from cloudrift.loop.sounding import key_heard
from cloudrift.render.engine.engine import Engine, trimmed
from cloudrift.render.forms.timeline import whole
from cloudrift.render.plan.plan import Form, mix_node

LONG_TURNS = 4
MOST_HELD_BYTES = 256 << 20  # of what is looked at before it is written


class Sound(NamedTuple):
    """Sound to be written, (2, frames), and whether it goes round.

    What is ``apart`` is no part of a sum, so that its gain is held back by a peak of its own.
    """

    audio: Stereo
    goes_round: bool
    cues: tuple[Cue, ...] = ()
    apart: bool = False


class Making:
    """What parts of a delivery are made with.

    Everything is computed again: a file depends on its document to the last bit, not on the edits
    that led there. ``engine`` is the caller's, who closes it.
    """

    def __init__(
        self, document: Document, order: Order, engine: Engine, cancelled: Callable[[], bool]
    ) -> None:
        rate = min(order.rate, max(RATES)) or document.loop.rate
        if rate != document.loop.rate:
            document = document.with_loop(replace(document.loop, rate=rate))
        self.document, self.order = document, order
        self.with_bed = document.loop
        self.loop = replace(document.loop, bed=None)
        self.engine, self.cancelled = engine, cancelled
        self.lower_db = 0.0  # by how much all files are turned down
        self._held: dict[Callable[[Making], Sound], Sound] = {}
        self._held_bytes = 0

    # --- facts --------------------------------------------------------------------------------

    @cached_property
    def sheet(self) -> Sheet:
        """The rights sheet."""
        return rights_of(self.document)

    def about(self, what: str, sound: Sound, *, treated: bool) -> About:
        """Return what a file says of itself."""
        loop = self.loop
        key = key_heard(loop) if treated else loop.key
        tempo = loop.sounding_tempo if treated else loop.tempo
        comment = f"key {key.plain}, tempo {tempo:.2f} BPM, {loop.bars} bars"
        if key_heard(loop) != loop.key or loop.sounding_tempo != loop.tempo:
            comment += f"; written in {loop.key.plain} at {loop.tempo:.2f} BPM"
        if self.lower_db:
            comment += f"; turned down by {self.lower_db:.1f} dB, as all files of this loop"
        return About(
            title=f"{loop.title}: {what}" if what else loop.title,
            comment=comment,
            maker=self.document.credits.maker,
            album=loop.kit,
            licence=self.sheet.licence_words,
            key=file_key(key),
            tempo=tempo,
            root_pitch=60 + key.pc,
            loop=sound.goes_round,
            cues=sound.cues,
            lufs=integrated_lufs(sound.audio, self.file_rate),
            peak_db=true_peak_db(sound.audio),
        )

    # --- level and rate -----------------------------------------------------------------------

    @property
    def file_rate(self) -> int:
        """Frames a second in the files."""
        return self.order.rate or self.loop.rate

    @cached_property
    def gain_db(self) -> float:
        """The gain that brings the loop to its target, as far as its peak allows: of all files."""
        target = self.order.target_lufs
        if target is None:
            return 0.0
        audio = self.engine.without_bed(self.loop, self.cancelled)
        wanted = target - integrated_lufs(audio, self.loop.rate)
        return min(wanted, MOST_PEAK_DBTP - true_peak_db(audio))

    def hold(self, make: Callable[["Making"], Sound]) -> Sound:
        """Make a sound that is wanted again soon, and keep it as far as there is room."""
        sound = make(self)
        if self._held_bytes + sound.audio.nbytes <= MOST_HELD_BYTES:
            self._held[make] = sound
            self._held_bytes += sound.audio.nbytes
        return sound

    def take(self, make: Callable[["Making"], Sound]) -> Sound:
        """Return a sound that was held, or make it; it is held no longer."""
        sound = self._held.pop(make, None)
        if sound is None:
            return make(self)
        self._held_bytes -= sound.audio.nbytes
        return sound

    def finished(self, sound: Sound) -> Sound:
        """Return sound at the level and rate of the files."""
        audio, gain = sound.audio, self.gain_db
        if gain > 0 and sound.apart:
            gain = min(gain, max(0.0, MOST_PEAK_DBTP - true_peak_db(audio)))
        gain -= self.lower_db
        if gain:
            audio = audio * np.float32(to_gain(gain))
        if self.file_rate == self.loop.rate:
            return sound._replace(audio=audio)
        ratio = self.file_rate / self.loop.rate
        if sound.goes_round:
            audio = resample_circular(audio, round(audio.shape[1] * ratio))
        else:
            audio = at_rate(audio, self.loop.rate, self.file_rate)
        cues = tuple(Cue(round(one.frame * ratio), one.label) for one in sound.cues)
        return sound._replace(audio=audio, cues=cues)

    # --- sounds -------------------------------------------------------------------------------

    def _whole(self, loop: Loop, *, once: bool) -> Sound:
        if once:
            return Sound(self.engine.once(loop, self.cancelled), goes_round=False)
        return Sound(self.engine.render(loop, self.cancelled).audio, goes_round=True)

    def treated(self, loop: Loop | None = None, *, once: bool | None = None) -> Sound:
        """The loop, or another one, after all treatments."""
        return self._whole(loop or self.loop, once=self.order.once if once is None else once)

    def only(self, keep: Callable[[Layer], bool]) -> Sound:
        """Some of its layers alone, after all treatments."""
        off = tuple(one if keep(one) else replace(one, mute=True) for one in self.loop.layers)
        return self.treated(replace(self.loop, layers=off))

    def bare(self) -> Sound:
        """The sum of the stems, in front of the whole loop's treatments."""
        form = Form(once=self.order.once)
        return self._cut(
            self.engine.audio(mix_node(self.loop, self.engine.tones, form), self.cancelled)
        )

    def stem(self, owner: Layer | Group, *, of: Loop | None = None, heard: bool = False) -> Sound:
        """A layer or a group as it enters the sum; ``heard``: of what sounds beside the loop."""
        loop, once = of or self.loop, self.order.once
        render = self.engine.group_stem if isinstance(owner, Group) else self.engine.stem
        audio = render(loop, owner, once=once, cancelled=self.cancelled)  # type: ignore[arg-type]
        return self._cut(audio, frames=loop.sounding_frames if heard else loop.frames)

    def dry(self, layer: Layer) -> Sound:
        """A layer in front of its own treatments, at its level and pan."""
        bare = replace(layer, line=(), group="")
        loop = self.loop.with_owner(layer.id, line=(), group="")
        return self.stem(bare, of=loop)

    def _cut(self, audio: Stereo, *, frames: int = 0) -> Sound:
        if not self.order.once:
            return Sound(audio, goes_round=True)
        return Sound(trimmed(audio, frames or self.loop.frames, self.loop.rate), goes_round=False)

    def long(self) -> Sound:
        """Several turns from silence, and the tail of the last."""
        alone = replace(self.document, loop=self.loop, arrangement=Arrangement())
        document = add_section(alone, bars=LONG_TURNS * self.loop.bars)
        audio, _pieces = whole(self.engine, document, self.cancelled)
        frames = self.loop.sounding_frames
        cues = tuple(Cue(turn * frames, f"pass {turn + 1}") for turn in range(LONG_TURNS))
        return Sound(audio, goes_round=False, cues=cues)

    def arranged(self) -> Sound:
        """The whole arrangement; its sections are places in it."""
        audio, pieces = whole(self.engine, self.document, self.cancelled)
        sections = self.document.arrangement.sections
        cues = tuple(Cue(piece.start, sections[piece.at].name) for piece in pieces)
        return Sound(audio, goes_round=False, cues=cues, apart=True)

    def with_bed_heard(self) -> Sound:
        """The loop with its groove bed."""
        return self.treated(self.with_bed)._replace(apart=True)

    def demo(self) -> Sound:
        """The demo file; its parts are places in it."""
        audio, cues = demo_sound(self.engine, self.document, cancelled=self.cancelled)
        return Sound(audio, goes_round=False, cues=cues, apart=True)


def name_of(document: Document, order: Order, part: str, *, treated: bool) -> str:
    """Return the name of a file without its ending; of MIDI and sheets as of sound."""
    loop = document.loop
    naming = Naming(
        title=loop.title,
        kit=loop.kit,
        maker=document.credits.maker,
        bars=loop.bars,
        tempo=loop.sounding_tempo if treated else loop.tempo,
        key=key_heard(loop) if treated else loop.key,
    )
    return named(order.pattern, naming, part)
