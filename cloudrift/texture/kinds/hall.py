"""Hall, room, plate, worn room and cloud: the response of a space, drawn from noise."""

import functools
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio import quick
from cloudrift.audio.buffers import Stereo
from cloudrift.audio.wrap import Spectrum, circular_noise, fold, read_splined, splined
from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind, decay_of
from cloudrift.texture.kinds.cuts import HIGH_OFF_HZ
from cloudrift.texture.kinds.tone import bell
from cloudrift.texture.kinds.weathering.speed import cents_to_speed, displaced_by
from cloudrift.texture.picture import Portrait, straying
from cloudrift.texture.process import Linear, rough_of

BAND_HZ = tuple(62.5 * 2**i for i in range(9))  # octave bands, 62.5 Hz to 16 kHz
NEAR, FAR = 0.85, 0.4  # how much each side of the input feeds each side of the hall
WORN_PER_S = 1800  # answers a second and side in a worn room
DRIFT_HZ = (0.15, 1.1)
LENGTH_TIMES = 1.15  # the response is kept until -69 dB


def band_decay_s(full: ResolvedSettings, hz: float) -> float:
    """Return the decay time (T60) of an octave band: air and walls take the highs first."""
    damping = full.number("damping") / 100
    return full.number("decay_s") / (1 + damping * (hz / 3000) ** 0.8 * 1.4)


@memoize
def _banded_noise(variation: int, frames: int, rate: int, *, worn: bool) -> NDArray[np.float32]:
    """Noise in octave bands whose sum is flat: (bands, 2, frames); ``worn``: of few impulses."""
    rng = rng_for(variation, "hall", rate)
    noise = rng.standard_normal((2, frames), np.float32)
    if worn:
        noise *= rng.random((2, frames)) < WORN_PER_S / rate
    spectrum = sf.rfft(noise)
    hz = np.maximum(np.fft.rfftfreq(frames, 1 / rate), 1.0)
    place = np.clip(np.log2(hz / BAND_HZ[0]), 0, len(BAND_HZ) - 1)
    out = np.empty((len(BAND_HZ), 2, frames), np.float32)
    for band in range(len(BAND_HZ)):
        first, last = np.searchsorted(place, (band - 1, band + 1), side="right")
        here = np.s_[first if band else 0 : last]
        share = np.cos(np.abs(place[here] - band) * np.pi / 2) ** 2
        alone = np.zeros_like(spectrum)
        np.multiply(spectrum[:, here], share.astype(np.float32), out=alone[:, here])
        out[band] = sf.irfft(alone, frames, overwrite_x=True)
    return out


class Walls(NamedTuple):
    """What tells one space from another: early reflections, when it thickens (s), its variation."""

    early: int
    soonest_s: float
    slowest_s: float
    name: str
    worn: bool = False  # heard as through an early, worn-out box: few answers, and a body's tone


@memoize
def _impulse(
    walls: Walls, settings: tuple[tuple[str, float], ...], variation: int, rate: int
) -> NDArray[np.float32]:
    """The space's response, (2, frames), as loud on average as what goes in."""
    full = ResolvedSettings(dict(settings))
    frames = int(full.number("decay_s") * LENGTH_TIMES * rate)
    # Noise is drawn in a few lengths, so that dragging the decay keeps the same hall.
    size = 1 << max(15, int(np.ceil(np.log2(frames))))
    noise = _banded_noise(variation, size, rate, worn=walls.worn)[:, :, :frames]
    t = np.arange(frames, dtype=np.float32) / rate
    out = np.zeros((2, frames), np.float32)
    for band, hz in enumerate(BAND_HZ):
        out += noise[band] * np.exp(np.float32(-6.908 / band_decay_s(full, hz)) * t)
    size_s = walls.soonest_s + walls.slowest_s * full.number("size") / 100
    out *= 1 - np.exp(-t / np.float32(size_s))  # a larger hall answers later and thickens slowly
    fall = frames // 8
    out[:, -fall:] *= np.linspace(1, 0, fall, dtype=np.float32)
    rng = rng_for(variation, f"{walls.name} early")
    for _ in range(walls.early):
        at = int(rng.uniform(0.15, 1.0) * size_s * 1.6 * rate) + 8
        if at < frames:
            out[:, at] += (rng.uniform(-1, 1, 2) * 6.0).astype(np.float32)
    out /= np.sqrt((out**2).sum() / 2)
    delay = int(full.number("pre_delay_ms") * 1e-3 * rate)
    return np.pad(out, ((0, 0), (delay, 0)))


@memoize
def _sides(
    walls: Walls, settings: tuple[tuple[str, float], ...], variation: int, rate: int, length: int
) -> NDArray[np.complex64]:
    """The hall's left and right as spectra, (2, bins)."""
    full = ResolvedSettings(dict(settings))
    h = sf.rfft(fold(_impulse(walls, settings, variation, rate), length))
    hz = np.fft.rfftfreq(length, 1 / rate).astype(np.float32)
    under = np.square(np.float32(full.number("low_cut_hz")) / np.maximum(hz, np.float32(0.1)))
    over = np.square(hz / np.float32(full.number("high_cut_hz")))
    gain = 1 + under * under
    if full.number("high_cut_hz") < HIGH_OFF_HZ:
        gain *= 1 + over * over
    gain = 1 / np.sqrt(gain)
    if walls.worn:
        near = np.maximum(hz, np.float32(0.1))
        gain *= np.abs(bell(near, 410, 6, 3) * bell(near, 1240, 5, 4))
    h.real *= gain
    h.imag *= gain
    width = np.float32(full.number("width") / 100)
    if width == 1:
        return h
    mid, side = (h[0] + h[1]) / 2, (h[0] - h[1]) / 2 * width
    return np.stack([mid + side, mid - side])


def _through(
    walls: Walls,
    spectrum: Spectrum,
    full: ResolvedSettings,
    variation: int,
    context: Context,
    length: int,
) -> Spectrum:
    """Each side of the hall hears both sides of the input, its own more."""
    settings = tuple(sorted((k, float(v)) for k, v in full.items()))  # numbers only
    sides = _sides(walls, settings, variation, context.rate, length)
    if quick.library and spectrum.ndim == 2:
        return quick.through_space(spectrum, sides, NEAR, FAR)
    left, right = sides
    near, far = np.float32(NEAR), np.float32(FAR)
    out = np.empty_like(spectrum)
    np.multiply(near * spectrum[0] + far * spectrum[1], left, out=out[0])
    np.multiply(far * spectrum[0] + near * spectrum[1], right, out=out[1])
    return out


def _ring_s(full: ResolvedSettings, _where: object) -> float:
    return full.number("decay_s") * LENGTH_TIMES + full.number("pre_delay_ms") * 1e-3


def _says(full: ResolvedSettings) -> str:
    high = band_decay_s(full, 8000)
    return f"rings {full.number('decay_s'):.1f} s in the middle, {high:.1f} s at 8 kHz"


def _space(
    walls: Walls,
    about: str,
    *,
    decay: tuple[float, float, float],
    size: float,
    pre_delay: float,
    low_cut: float,
    damping: float,
    high_cut: float = HIGH_OFF_HZ,
) -> Kind:
    """Return a kind of space; ``decay`` is its default, least and most, in seconds."""
    usual, least, most = decay
    linear = Linear(through=functools.partial(_through, walls), ring_s=_ring_s)
    return Kind(
        name=walls.name,
        label=walls.name.capitalize(),
        family="Space",
        about=about,
        spec=SettingsSpec(
            (
                Field(
                    name="decay_s",
                    label="Decay",
                    default=usual,
                    unit="s",
                    low=least,
                    high=most,
                    step=0.1 if least >= 0.3 else 0.01,
                    log=True,
                ),
                Field(
                    name="low_cut_hz",
                    label="Low cut",
                    default=low_cut,
                    unit="Hz",
                    low=20,
                    high=2000,
                    step=1,
                    log=True,
                    off_low=True,
                ),
                Field(
                    name="high_cut_hz",
                    label="High cut",
                    default=high_cut,
                    unit="Hz",
                    low=500,
                    high=HIGH_OFF_HZ,
                    step=10,
                    log=True,
                    off_high=True,
                ),
                Field(name="damping", label="Damping", default=damping, unit="%", low=0, high=100),
                Field(
                    name="pre_delay_ms",
                    label="Pre-delay",
                    default=pre_delay,
                    unit="ms",
                    low=0,
                    high=250,
                    follows="tempo",
                ),
                Field(name="size", label="Size", default=size, unit="%", low=0, high=100),
                Field(name="width", label="Width", default=100, unit="%", low=0, high=100),
            )
        ),
        says=_says,
        linear=linear,
        picture=decay_of(linear),
        tail_s=_ring_s,
        blend=0.35,
        draws=True,
    )


HALL = _space(
    Walls(14, 0.004, 0.05, "hall"),
    "Reverb of a large hall.",
    decay=(3.2, 0.3, 12),
    size=50,
    pre_delay=18,
    low_cut=280,
    damping=45,
)
ROOM = _space(
    Walls(36, 0.001, 0.012, "room"),
    "Reverb of a small room with near walls.",
    decay=(0.5, 0.1, 2),
    size=40,
    pre_delay=2,
    low_cut=160,
    damping=60,
)
PLATE = _space(
    Walls(0, 0.0005, 0.004, "plate"),
    "Plate reverb: dense at once, bright.",
    decay=(1.8, 0.3, 8),
    size=20,
    pre_delay=0,
    low_cut=350,
    damping=15,
)
WORN = _space(
    Walls(9, 0.001, 0.01, "worn room", worn=True),
    "A small room from an old digital box: grainy, with a tone of its own.",
    decay=(0.7, 0.1, 2.5),
    size=35,
    pre_delay=6,
    low_cut=220,
    damping=50,
    high_cut=4200,
)

# --- cloud: very long, and never quite still ------------------------------------------------------

_STILL = _space(
    Walls(0, 0.05, 0.4, "cloud"),
    "Vast reverb without walls: very long, drifting.",
    decay=(9, 3, 20),
    size=60,
    pre_delay=0,
    low_cut=240,
    damping=35,
    high_cut=9000,
)


@memoize
def _drift(variation: int, frames: int, rate: int) -> NDArray[np.float32]:
    """How far left and right stray, in frames for a speed that strays by 1 at most: (2, frames)."""
    slow, quick = (hz * frames / rate for hz in DRIFT_HZ)
    return np.stack(
        [
            displaced_by(circular_noise(rng_for(variation, "cloud", side), frames, slow, quick))
            for side in range(2)
        ]
    )


def drift_of(full: ResolvedSettings, variation: int, context: Context) -> NDArray[np.float32]:
    """Return how far left and right are read from their place, in frames: (2, loop frames)."""
    speed = cents_to_speed(full.number("drift_cents"))
    return _drift(variation, context.loop_frames, context.rate) * speed


def _cloud(audio: Stereo, full: ResolvedSettings, variation: int, context: Context) -> Stereo:
    """The space, whose sides drift in pitch each on its own."""
    linear = _STILL.linear
    assert linear is not None
    still = ResolvedSettings({k: v for k, v in full.items() if k != "drift_cents"})
    out = linear.lay(audio, still, variation, context)
    if full.number("drift_cents") == 0:
        return out
    away, spline = drift_of(full, variation, context), splined(out)
    return np.concatenate([read_splined(spline[i : i + 1], away[i]) for i in range(2)])


def _drift_picture(full: ResolvedSettings, variation: int, context: Context) -> Portrait:
    return straying([*drift_of(full, variation, context)], context)


CLOUD = Kind(
    name="cloud",
    label="Cloud",
    family="Space",
    about=_STILL.about,
    spec=SettingsSpec(
        (
            *_STILL.spec.fields,
            Field(
                name="drift_cents",
                label="Drift",
                default=9,
                unit="cents",
                low=0,
                high=40,
                step=0.5,
                ride_step=1 / 30,
            ),
        )
    ),
    says=lambda full: f"{_says(full)}, drifting ±{full.number('drift_cents'):.0f} cents",
    process=_cloud,
    rough=rough_of(_cloud, 2.0),
    picture=_drift_picture,
    tail_s=_ring_s,
    blend=0.35,
    draws=True,
)
KINDS = (HALL, ROOM, PLATE, WORN, CLOUD)
