"""The demo file as sound: its parts one after another, its tag, its places, a sheet of them."""

from collections.abc import Callable
from pathlib import Path

import numpy as np

from cloudrift.audio.about import About, Cue
from cloudrift.audio.buffers import Stereo, silence, to_gain
from cloudrift.audio.files import write_atomically
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.audio.resample import at_rate
from cloudrift.audio.sound_file import write_sound
from cloudrift.deliver.names import file_key
from cloudrift.deliver.rights import rights_of
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.demo_file import DemoFile, fitted, heard_in, part_loop
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_heard
from cloudrift.render.engine.engine import Engine
from cloudrift.render.forms import seams
from cloudrift.sound.catalogue import find_sound

TAG_S = 1.5  # that a house sound is held for
Progress = Callable[[int, int, str], object]


def lengths_of(loop: Loop, demo: DemoFile) -> list[int]:
    """Return the length of each part in frames; the last one rings on after its end."""
    return [part.turns * loop.sounding_frames for part in demo.parts]


def cues_of(loop: Loop, demo: DemoFile) -> tuple[Cue, ...]:
    """Return where each part begins."""
    starts = np.cumsum([0, *lengths_of(loop, demo)])
    return tuple(Cue(int(at), part.name) for at, part in zip(starts, demo.parts, strict=False))


def demo_sound(
    engine: Engine,
    document: Document,
    progress: Progress = lambda _done, _of, _what: None,
    cancelled: Callable[[], bool] = never,
) -> tuple[Stereo, tuple[Cue, ...]]:
    """Return the demo file of a document, (2, frames), and its places.

    Each part is the loop as it goes round; it goes on while it is faded into the next, evenly in
    power, from where that begins. The last one rings out. Raises CloudriftError where there is no
    part, and Cancelled.
    """
    loop, demo = document.loop, fitted(document.demo, document.loop)
    if not demo.parts:
        raise CloudriftError("the demo file has no parts yet; suggest an order")
    lengths = lengths_of(loop, demo)
    frames = loop.sounding_frames
    cross = min(int(demo.cross_s * loop.rate), frames)
    last = part_loop(loop, demo.parts[-1])
    tail = engine.once(last, cancelled)[:, frames:]
    out = silence(sum(lengths) + tail.shape[1])
    at = 0
    rise = np.sin(np.linspace(0, np.pi / 2, cross, endpoint=False)).astype(np.float32)
    for number, (part, length) in enumerate(zip(demo.parts, lengths, strict=True)):
        if cancelled():
            raise Cancelled
        progress(number, len(demo.parts), part.name)
        steady = engine.without_bed(part_loop(loop, part), cancelled)
        ends = number == len(demo.parts) - 1
        count = length if ends else length + cross
        body = np.array(np.take(steady, np.arange(count), axis=1, mode="wrap"))
        if number:
            body[:, :cross] *= rise
        if not ends:
            body[:, length:] *= np.sqrt(1 - rise**2)
        out[:, at : at + count] += body
        at += length
    out[:, at:] += tail
    _lay_tag(out, engine, document, demo)
    progress(len(demo.parts), len(demo.parts), "")
    return out, cues_of(loop, demo)


def _lay_tag(out: Stereo, engine: Engine, document: Document, demo: DemoFile) -> None:
    """Add the tag at the beginning of every so many parts."""
    if not demo.tag:
        return
    tag = tag_sound(engine, document.loop, demo.tag) * np.float32(to_gain(demo.tag_db))
    for cue in cues_of(document.loop, demo)[:: demo.tag_every]:
        count = min(tag.shape[1], out.shape[1] - cue.frame)
        out[:, cue.frame : cue.frame + count] += tag[:, :count]


def tag_sound(engine: Engine, loop: Loop, tag: str) -> Stereo:
    """Return a tag, its loudest at full scale: a layer that is a recording, or a house sound.

    Raises CloudriftError with the nearest name where there is neither.
    """
    layer = next((one for one in loop.layers if one.name == tag and one.recorded), None)
    if layer is not None and layer.recorded is not None:
        audio, rate = engine.clips.read(layer.recorded.clip)
        audio = at_rate(audio, rate, loop.rate)
        peak = float(np.abs(audio).max(initial=0.0))
        return audio / np.float32(peak) if peak > 0 else audio
    find_sound(tag)
    return seams.one_shot(engine.tones, tag, TAG_S, loop.rate, 0.0, 60 + key_heard(loop).pc)


def sheet_text(document: Document) -> str:
    """Return what is heard where in the demo file, as text: a line a part."""
    loop, demo = document.loop, fitted(document.demo, document.loop)
    rows = [
        f"{loop.title}: demo file",
        f"{key_heard(loop).plain}, {loop.sounding_tempo:.2f} BPM, {loop.bars} bars",
        "",
    ]
    for cue, part in zip(cues_of(loop, demo), demo.parts, strict=True):
        names = ", ".join(one.name for one in heard_in(loop, part))
        rows.append(f"{clock(cue.frame / loop.rate)}  {part.name}: {names}")
    total = sum(lengths_of(loop, demo)) / loop.rate
    return "\n".join([*rows, f"{clock(total)}  end", ""])


def clock(seconds: float) -> str:
    """Write a time in minutes: ``1:02.5``."""
    tenths = round(seconds * 10)
    return f"{tenths // 600}:{tenths // 10 % 60:02}.{tenths % 10}"


def write_demo(
    path: Path,
    document: Document,
    engine: Engine,
    *,
    format_name: str = "wav",
    bits: int = 24,
    progress: Progress = lambda _done, _of, _what: None,
    cancelled: Callable[[], bool] = never,
) -> tuple[Path, Path]:
    """Write the demo file, its places as cue points, and its sheet beside it; return both paths."""
    audio, cues = demo_sound(engine, document, progress, cancelled)
    loop = document.loop
    about = About(
        title=f"{loop.title}: demo",
        maker=document.credits.maker,
        album=loop.kit,
        cues=cues,
        licence=rights_of(document).licence_words,
        key=file_key(key_heard(loop)),
        comment=f"key {key_heard(loop).plain}, tempo {loop.sounding_tempo:.2f} BPM",
        tempo=loop.sounding_tempo,
        root_pitch=60 + key_heard(loop).pc,
        lufs=integrated_lufs(audio, loop.rate),
        peak_db=true_peak_db(audio),
    )
    write_sound(path, audio, loop.rate, format_name=format_name, bits=bits, about=about)
    sheet = path.with_name(f"{path.stem}.txt")
    text = sheet_text(document).encode()
    write_atomically(sheet, lambda file: file.write(text), follow_link=False)
    return path, sheet
