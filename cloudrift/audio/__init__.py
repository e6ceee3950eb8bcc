"""Audio as arrays: files, wrap-around filtering, resampling, spectra, loudness.

Audio is float32, shape ``(2, frames)``, C-contiguous, 44 100 Hz unless said otherwise. Nothing
here knows of notes, loops or settings.
"""

from cloudrift.audio.buffers import DEFAULT_RATE, Stereo, silence, to_db, to_gain

__all__ = ["DEFAULT_RATE", "Stereo", "silence", "to_db", "to_gain"]
