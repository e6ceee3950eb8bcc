"""Writing a loop out: the treated loop, its stems, its bare sum and its MIDI."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace

from cloudrift.audio.buffers import RATES, Stereo
from cloudrift.audio.files import SUBTYPES, write_atomically, write_wav
from cloudrift.deliver.names import slug, stem_of
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model import Layer, Loop
from cloudrift.notes.midi import midi_file
from cloudrift.render.engine import Cancelled, Engine, never, trimmed
from cloudrift.render.plan import mix_node

Progress = Callable[[int, int, str], None]  # done, of, file name


@dataclass(frozen=True, kw_only=True)
class Order:
    """What to write. ``rate`` 0 keeps the loop's own; ``once`` is one pass with its tail."""

    stems: bool = False
    midi: bool = False
    bits: int = 24
    rate: int = 0
    once: bool = False

    def __post_init__(self) -> None:
        if self.bits not in SUBTYPES:
            raise CloudriftError(f"bits must be 16, 24 or 32, not {self.bits}")
        if self.rate and self.rate not in RATES:
            raise CloudriftError(f"rate must be 44100 or 48000 Hz, not {self.rate}")


@dataclass(frozen=True, kw_only=True)
class Parcel:
    """One file to be written: its name, what is in it, and how it is made."""

    name: str
    what: str
    write: Callable[[Path, Engine, Callable[[], bool]], None]


def parcels(loop: Loop, order: Order) -> list[Parcel]:
    """Return every file that an order writes, in order, without writing or rendering anything."""
    if order.rate and order.rate != loop.rate:
        loop = replace(loop, rate=order.rate)
    sounding = stem_of(loop.title, loop.sounding_tempo, loop.sounding_key)
    written = stem_of(loop.title, loop.tempo, loop.key)
    end = "_once" if order.once else ""
    out = [
        Parcel(
            name=f"{sounding}{end}.wav",
            what="the loop, treated" + (", one pass with its tail" if order.once else ""),
            write=lambda path, engine, stop: _write_loop(path, engine, stop, loop, order),
        )
    ]
    if order.stems:
        out.append(
            Parcel(
                name=f"{written}_bare{end}.wav",
                what="the sum of the stems, before the whole loop's treatments",
                write=lambda path, engine, stop: _write_bare(path, engine, stop, loop, order),
            )
        )
        for number, layer in enumerate(loop.heard(), 1):

            def write_stem(
                path: Path, engine: Engine, stop: Callable[[], bool], layer_id: str = layer.id
            ) -> None:
                _write_stem(path, engine, stop, loop, order, layer_id)

            out.append(
                Parcel(
                    name=f"{written}_stem-{number}-{slug(layer.name)}{end}.wav",
                    what=f"stem: {layer.name}, {layer.sound.name}",
                    write=write_stem,
                )
            )
    if order.midi:
        out.append(
            Parcel(
                name=f"{written}.mid",
                what="the notes as played, a track a layer",
                write=lambda path, _engine, _stop: write_midi(path, loop, loop.heard()),
            )
        )
    return out


def deliver(
    loop: Loop,
    folder: Path,
    order: Order,
    *,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] = never,
) -> list[Path]:
    """Write all files of an order into a folder (made if need be) and return their paths.

    Each file is written whole or not at all; a cancelled delivery leaves the files that were
    finished. Everything is computed anew: a file depends on its loop to the last bit, not on the
    edits that led there. Raises CloudriftError that names the file at fault, and Cancelled.
    """
    if not loop.heard():
        raise CloudriftError("no layer sounds, so there is nothing to write; turn one on in Layers")
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise CloudriftError(
            f"could not make the folder {folder}: {error.strerror}; choose another"
        ) from error
    todo = parcels(loop, order)
    done = []
    engine = Engine()
    try:
        for number, parcel in enumerate(todo):
            if cancelled():
                raise Cancelled
            if progress:
                progress(number, len(todo), parcel.name)
            parcel.write(folder / parcel.name, engine, cancelled)
            done.append(folder / parcel.name)
    finally:
        engine.close()
    if progress:
        progress(len(todo), len(todo), "")
    return done


def _write(
    path: Path, audio: Stereo, loop: Loop, order: Order, *, treated: bool, what: str
) -> None:
    key = loop.sounding_key if treated else loop.key
    tempo = loop.sounding_tempo if treated else loop.tempo
    comment = f"key {key.plain}, tempo {tempo:.2f} BPM, {loop.bars} bars"
    if loop.sounding_key != loop.key or loop.sounding_tempo != loop.tempo:
        comment += f"; written in {loop.key.plain} at {loop.tempo:.2f} BPM"
    write_wav(
        path,
        audio,
        loop.rate,
        bits=order.bits,
        title=loop.title if not what else f"{loop.title}: {what}",
        comment=comment,
        loop=not order.once,
        tempo=tempo,
        beats=loop.bars * loop.metre[0],
        root_pitch=60 + key.pc,
        metre=loop.metre,
    )


def _write_loop(
    path: Path, engine: Engine, stop: Callable[[], bool], loop: Loop, order: Order
) -> None:
    audio = engine.once(loop, stop) if order.once else engine.render(loop, stop).audio
    _write(path, audio, loop, order, treated=True, what="")


def _write_bare(
    path: Path, engine: Engine, stop: Callable[[], bool], loop: Loop, order: Order
) -> None:
    audio = engine.audio(mix_node(loop, engine.tones, once=order.once), stop)
    if order.once:
        audio = trimmed(audio, loop.frames, loop.rate)
    _write(path, audio, loop, order, treated=False, what="bare")


def _write_stem(
    path: Path, engine: Engine, stop: Callable[[], bool], loop: Loop, order: Order, layer_id: str
) -> None:
    layer = loop.layer(layer_id)
    audio = engine.stem(loop, layer, once=order.once, cancelled=stop)
    if order.once:
        audio = trimmed(audio, loop.frames, loop.rate)
    _write(path, audio, loop, order, treated=False, what=layer.name)


def write_midi(path: Path, loop: Loop, layers: Iterable[Layer]) -> None:
    """Write layers' notes as played, a track a layer."""
    data = midi_file(
        [(layer.name, loop.notes_of(layer)) for layer in layers],
        tempo=loop.tempo,
        metre=loop.metre,
        signature=loop.key.signature_name,
        loop_ticks=loop.ticks,
        title=loop.title,
    )
    write_atomically(path, lambda file: file.write(data))
