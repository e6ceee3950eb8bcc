"""What a line has made of the sound after each of its treatments, measured, and what to heed."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import QUIET_DB, Stereo
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.audio.spectrum import spectrogram
from cloudrift.loop.model.loop import LineAt, Loop
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.time import TICKS_PER_QUARTER
from cloudrift.render.engine.engine import Engine
from cloudrift.render.plan.plan import step_node
from cloudrift.texture.kinds.resonances import Harsh, find_harsh
from cloudrift.texture.treatment import Line, Treatment, tail_s

COLUMNS, ROWS = 480, 72
BANDS_HZ = np.geomspace(30, 16_000, 97)
LOW_END_HZ, RUMBLE_HZ = 120.0, 45.0
QUIET_LUFS = -60.0  # nothing worth a warning is softer

# When something is worth a word.
MONO_LOSS_DB = 3.0
WIDE_LOW_DB = -9.0  # sides against the middle, below LOW_END_HZ
LOW_DB = -20.0  # below LOW_END_HZ against all of it: less is no low end
CLEARING_BLEND = 0.9  # from which on a cut takes something away rather than thinning it
RUMBLE_DB = -24.0  # below RUMBLE_HZ against all of it
SHORT_SHARE = 0.55  # of the time from note to note: shorter is staccato
TAIL_TO_GAP = 2.0  # a tail that many gaps long fills them


@dataclass(frozen=True, kw_only=True)
class StepFacts:
    """The sound after a treatment: its picture (dBFS) and spectrum (dB), and its measures.

    ``mono_loss_db`` is what is lost when both sides are added, ``wide_low_db`` how strong the sides
    are against the middle below 120 Hz, ``low_db`` what lies there against all of it, ``rumble_db``
    the same below 45 Hz.
    """

    picture: NDArray[np.float32]
    spectrum_db: NDArray[np.float64]
    lufs: float
    peak_db: float
    mono_loss_db: float
    wide_low_db: float
    low_db: float
    rumble_db: float
    took_ms: float


def step_facts(engine: Engine, loop: Loop, line_of: LineAt, count: int) -> StepFacts:
    """Measure a line after its first ``count`` treatments; what was measured before is kept."""
    node = step_node(loop, line_of, engine.tones, count)
    kept = engine.facts.get(node.key)
    if isinstance(kept, StepFacts):
        return kept
    facts = _measured(engine.audio(node), loop.rate, engine.took_ms(node))
    engine.facts.put(node.key, facts)
    return facts


def _measured(audio: Stereo, rate: int, took_ms: float) -> StepFacts:
    length = sf.next_fast_len(audio.shape[1])
    spectra = sf.rfft(audio, length, workers=2)
    hz = np.fft.rfftfreq(length, 1 / rate)
    middle = np.abs(spectra[0] + spectra[1]) ** 2 / 2
    side = np.abs(spectra[0] - spectra[1]) ** 2 / 2
    both = middle + side
    edges = np.searchsorted(hz, BANDS_HZ)
    total = np.concatenate([[0.0], np.cumsum(both.astype(np.float64))])
    bands = np.diff(total[edges])
    scale = 2.0 / (length * audio.shape[1])
    low = hz < LOW_END_HZ
    return StepFacts(
        picture=spectrogram(audio, rate, columns=COLUMNS, rows=ROWS),
        spectrum_db=10 * np.log10(bands * scale + 1e-12),
        lufs=integrated_lufs(audio, rate),
        peak_db=true_peak_db(audio),
        mono_loss_db=_db(both.sum(), middle.sum()),
        wide_low_db=_db(side[low].sum(), middle[low].sum()),
        low_db=_db(both[low].sum(), both.sum()),
        rumble_db=_db(both[(hz > 5) & (hz < RUMBLE_HZ)].sum(), both.sum()),
        took_ms=took_ms,
    )


def _db(power: float, against: float) -> float:
    if power <= 0:
        return QUIET_DB
    return float(10 * np.log10(power / max(against, power * 1e-12)))


def added(before: StepFacts, after: StepFacts, treatment: Treatment, tempo: float) -> str:
    """Say what a treatment has added: loudness, tail, what it cost."""
    parts = []
    louder = after.lufs - before.lufs
    if before.lufs > QUIET_LUFS and abs(louder) >= 0.1:
        parts.append(f"{abs(louder):.1f} dB {'louder' if louder > 0 else 'quieter'}")
    else:
        parts.append("as loud as before")
    tail = tail_s((treatment,), tempo)
    if tail > 0.05:
        parts.append(f"rings {tail:.1f} s longer")
    if after.took_ms >= 0.5:
        parts.append(f"took {after.took_ms:.0f} ms")
    return " · ".join(parts)


def heed(
    loop: Loop, line_of: LineAt, treatment: Treatment, before: StepFacts, after: StepFacts
) -> list[str]:
    """Return warnings in words for the step after a treatment: only what it has brought itself."""
    if not treatment.acts or after.lufs < QUIET_LUFS:
        return []
    found = []
    if after.peak_db > 0 >= before.peak_db:
        found.append(
            f"peaks at +{after.peak_db:.1f} dBTP here: it drives what follows harder, and clips "
            "without a limiter"
        )
    if after.mono_loss_db > MONO_LOSS_DB > before.mono_loss_db:
        found.append(f"in mono {after.mono_loss_db:.1f} dB is lost; narrow it")
    if after.wide_low_db > WIDE_LOW_DB > before.wide_low_db and after.low_db > LOW_DB:
        found.append("the low end is wide below 120 Hz; a trim can make it mono")
    cleared = _cleared(loop.line_of(line_of), treatment)
    if treatment.of.rumbles and after.rumble_db > RUMBLE_DB and not cleared:
        found.append(
            f"rumble below {RUMBLE_HZ:.0f} Hz, {-after.rumble_db:.0f} dB below the whole; a low "
            "cut after it removes that"
        )
    gap = short_gap_s(loop, line_of)
    tail = tail_s((treatment,), loop.tempo)
    if gap is not None and tail > TAIL_TO_GAP * gap and treatment.blend >= 0.1:
        found.append(
            f"rings {tail:.1f} s into gaps of {gap:.2f} s: it fills the staccato; use a shorter "
            "decay or less wet"
        )
    return found


def _cleared(line: Line, treatment: Treatment) -> bool:
    """Whether a low cut after a treatment takes away what rumbles."""
    at = next((i for i, t in enumerate(line) if t.id == treatment.id), len(line))
    behind = (t for t in line[at + 1 :] if t.acts and t.blend > CLEARING_BLEND)
    return any(t.of.clears_hz(t.full) >= RUMBLE_HZ for t in behind)


def short_gap_s(loop: Loop, line_of: LineAt) -> float | None:
    """Return the usual gap between the notes of a layer that plays staccato, in seconds."""
    layers = {layer.id: layer for layer in (*loop.layers, *loop.lanes)}
    if line_of not in layers:
        return None
    notes = sorted(notes_of(loop, layers[line_of]), key=lambda n: n.start_tick)
    starts = sorted({n.start_tick for n in notes})
    if len(starts) < 3:
        return None
    apart = np.diff([*starts, starts[0] + loop.ticks])
    ends = {
        start: max(n.start_tick + n.length_ticks for n in notes if n.start_tick == start)
        for start in starts
    }
    lengths = np.array([ends[start] - start for start in starts])
    if np.median(lengths / apart) > SHORT_SHARE:
        return None
    gap = float(np.median(apart - lengths))
    return gap / TICKS_PER_QUARTER * 60 / loop.tempo if gap > 0 else None


def harsh_in(engine: Engine, loop: Loop, line_of: LineAt) -> Harsh | None:
    """Return the strongest narrow resonance in what leaves a line."""
    node = step_node(loop, line_of, engine.tones, len(loop.line_of(line_of)))
    return find_harsh(engine.audio(node), loop.rate)
