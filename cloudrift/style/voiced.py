"""A chord as a card sets it out."""

from cloudrift.style.card import Voicing
from cloudrift.theory.voicing import bass_below, voice_chord


def voiced(
    tones: tuple[int, ...], voicing: Voicing, before: tuple[int, ...], *, spread: bool
) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Return the upper voices (MIDI), and all voices with the bass note below.

    ``tones`` are pitch classes, the root first; ``before`` the upper voices of the chord before.
    """
    upper = voice_chord(tones, low=voicing.low, high=voicing.high, before=before, spread=spread)
    if not voicing.bass_octaves:
        return upper, upper
    return upper, (bass_below(tones[0], upper, octaves=voicing.bass_octaves), *upper)
