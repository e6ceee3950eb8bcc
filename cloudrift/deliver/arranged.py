"""Writing an arrangement: all of it, and the loop and the groove bed apart."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.about import About
from cloudrift.audio.buffers import Stereo, silence, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import make_folder
from cloudrift.audio.sound_file import FLOATING, FullScaleError, over_db, turn_down_db, write_wav
from cloudrift.deliver.names import file_key, stem_of
from cloudrift.deliver.rights import rights_of
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import Arrangement
from cloudrift.loop.sounding import key_heard
from cloudrift.render.engine.cache import AudioCache
from cloudrift.render.engine.engine import Engine
from cloudrift.render.forms.timeline import whole

CACHE_BYTES = 256 << 20  # of what is made once for a file, little is needed twice
Progress = Callable[[int, int, str], object]


def without_loop(document: Document) -> Document:
    """Return a document in which no layer plays in any section, and nothing that a seam adds.

    That is the groove bed alone, before the line of all of it.
    """
    sections = []
    for section in document.arrangement.sections:
        seam = replace(section.seam, riser_bars=0.0, crash_db=-60.0, tag_db=-60.0, burst_db=-60.0)
        made = replace(section, seam=seam)
        for layer in document.loop.layers:
            made = made.with_part(replace(made.part(layer.id), on=False))
        sections.append(made)
    return replace(document, arrangement=Arrangement(sections=tuple(sections)))


def deliver_all(
    document: Document,
    folder: Path,
    *,
    stems: bool = False,
    bits: int = 24,
    rate: int = 0,
    lower: bool = False,
    clips: ClipStore | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] = never,
) -> list[Path]:
    """Write the arrangement into a folder (made if need be) and return the paths.

    ``stems``: also the loop and the groove bed apart, before the line of all of it, where they add
    up to the whole: the loop as the bed ducks it, with all that seams add. Everything is computed
    again; files are written whole. ``lower`` turns all down by one gain where one would clip, else
    that is FullScaleError. Raises CloudriftError and Cancelled.
    """
    if not document.arrangement.sections:
        raise CloudriftError("there is no arrangement yet; make one with cloudrift arrange")
    loop = document.loop
    if rate and rate != loop.rate:
        document = document.with_loop(replace(loop, rate=rate))
    make_folder(folder, "; choose another")
    name = stem_of(loop.title, loop.sounding_tempo, key_heard(loop))
    plain = replace(document, arrangement=replace(document.arrangement, line=()))
    wanted = {"": document}
    if stems:
        wanted |= {"loop": plain} if document.arrangement.line else {}
        wanted |= {"bed": without_loop(document)} if loop.bed is not None else {}
    engine = Engine(cache=AudioCache(CACHE_BYTES), clips=clips)
    made: dict[str, Stereo] = {}
    count = len(document.arrangement.sections)

    def said(number: int, done: int, words: str) -> None:
        if progress:
            progress(number * count + done, len(wanted) * count, words)

    try:
        for number, (what, one) in enumerate(wanted.items()):
            if cancelled():
                raise Cancelled
            words = f"the {what}" if what else "the whole arrangement"
            moved = partial(lambda n, w, done, _of: said(n, done, w), number, words)
            made[what], _pieces = whole(engine, one, cancelled, moved)
    finally:
        engine.close()
    if stems:
        made["loop"] = _less(made.get("loop", made[""]), made.get("bed", silence(0)))
    over = 0.0 if bits == FLOATING else max(over_db(audio) for audio in made.values())
    if over and not lower:
        raise FullScaleError("the arrangement", over)
    gain = np.float32(to_gain(-turn_down_db(over)))
    done = []
    for what, words in (
        ("", "arranged"),
        ("loop", "the loop, arranged"),
        ("bed", "the groove bed, arranged"),
    ):
        if what in made:
            path = folder / f"{name}_arranged{what and '_' + what}.wav"
            _write(path, made[what] * gain if over else made[what], document, bits, words)
            done.append(path)
    return done


def _less(all_: Stereo, part: Stereo) -> Stereo:
    out = silence(max(all_.shape[1], part.shape[1]))
    out[:, : all_.shape[1]] += all_
    out[:, : part.shape[1]] -= part
    return out


def _write(path: Path, audio: Stereo, document: Document, bits: int, words: str) -> None:
    loop = document.loop
    sections = ", ".join(f"{one.name} ({one.bars})" for one in document.arrangement.sections)
    about = About(
        title=f"{loop.title}: {words}",
        maker=document.credits.maker,
        album=loop.kit,
        licence=rights_of(document).licence_words,
        key=file_key(key_heard(loop)),
        comment=f"key {key_heard(loop).plain}, tempo {loop.sounding_tempo:.2f} BPM; {sections}",
        tempo=loop.sounding_tempo,
        root_pitch=60 + key_heard(loop).pc,
    )
    write_wav(path, audio, loop.rate, bits=bits, about=about)
