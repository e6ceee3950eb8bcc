"""What is said of files before they are written."""

from cloudrift.deliver.checks.spec import TARGETS_LUFS
from cloudrift.ground.words import number
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_heard

BITS = ((16, "16 bit"), (24, "24 bit"), (32, "32 bit float"))
RATES = ((44_100, "44.1 kHz"), (48_000, "48 kHz"), (96_000, "96 kHz"))
TARGETS = ((None, "Unchanged"), *((one, number(one)) for one in TARGETS_LUFS))


def facts_of_files(
    loop: Loop, *, alone: bool, stems: bool, once: bool, target: float | None, exact: bool
) -> list[str]:
    """Return what to know of the files that a loop is written into.

    ``alone``: only some layers are heard just now; ``target`` is a loudness in LUFS.
    """
    lines = []
    if alone:
        lines.append(
            "Some layers are soloed; the export has the whole loop, without muted and off layers."
        )
    if stems:
        lines.append(
            "The stems add up to the bare file; the whole loop's treatments make it the loop."
        )
        if any(x.group for x in loop.heard()):
            lines.append(
                "A group is one stem, after its own treatments; its layers are exported as parts "
                "beside it."
            )
    if key_heard(loop) != loop.key or loop.sounding_tempo != loop.tempo:
        lines.append(
            f"Written in {loop.key.text} at {loop.tempo:g} BPM. The treated loop is named by its "
            "sounding key and tempo; stems, their sum and MIDI by the written ones."
        )
    if loop.unknown:
        lines.append(f"Not exported: {'; '.join(loop.unknown)}.")
    if target is not None:
        lines.append(
            f"Set to {number(target)} LUFS by one gain, as far as a true peak of −1 dBTP allows; "
            "the checks show what is missing."
        )
    if not exact:
        lines.append(
            "Ogg and MP3 keep the length, but not every sample: only WAV and FLAC loop seamlessly."
        )
    carried = "tempo, key and licence" if once else ("loop points, tempo, key and licence")
    lines.append(f"The files contain {carried}.")
    return lines
