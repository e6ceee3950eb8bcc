"""Earlier designs: loops made with them go on sounding the same."""

import functools
from dataclasses import replace

from cloudrift.sound.first import bass, pads
from cloudrift.sound.instrument import Instrument


def _named(sounds: tuple[Instrument, ...], name: str) -> Instrument:
    return next(s for s in sounds if s.name == name)


SOUNDS = (
    # Its beating made some strikes 1.5 dB louder than the other sounds.
    replace(_named(bass.SOUNDS, "round sub"), version=1, gain_db=-14.1),
    # Its click could hardly be heard at any setting.
    replace(_named(bass.SOUNDS, "long drum"), version=1,
            tone=functools.partial(bass.long_drum, 0.1, 0.4)),
    # High notes opened too little with velocity.
    replace(_named(pads.SOUNDS, "warm pad"), version=1, gain_db=-23.8,
            spec=pads.warm_spec(420), tone=functools.partial(pads.warm_pad, 0.6, 2.4, 0.0)),
)  # fmt: skip
