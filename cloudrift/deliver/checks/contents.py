"""Checks of what a loop is made of: what is unknown, clipped, noisy; names, stems, rights."""

from collections import Counter
from collections.abc import Iterator

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo, to_db
from cloudrift.deliver.checks import spec
from cloudrift.deliver.checks.check import Change, Check, Finding
from cloudrift.deliver.checks.heard import Heard
from cloudrift.deliver.names import slug
from cloudrift.deliver.rights import rights_of
from cloudrift.ground.words import free_name, number, plural, together
from cloudrift.loop.edits.layers.layer_edits import set_layer
from cloudrift.loop.edits.layers.line_edits import add_treatment
from cloudrift.loop.model.layer import Group, Layer
from cloudrift.loop.model.loop import Loop

UNTITLED = ("", "untitled loop")
MOMENT_S = 0.05
LEAST_MOMENTS = 10


# --- sounds and treatments ------------------------------------------------------------------------


def _unknown(heard: Heard) -> Finding:
    what = heard.loop.unknown
    if not what:
        return Finding(severity="fine", value=0.0, measured="everything it names is known")
    return Finding(
        severity="must",
        value=len(what),
        measured=together(what[:3]),
        change=Change(words="leave it out", edit=_without_unknown),
    )


def _without_unknown(loop: Loop) -> Loop:
    """Take out treatments that are not known, and turn layers off whose sound is not."""
    loop = replace(loop, line=tuple(t for t in loop.line if t.known))
    owners: tuple[Layer | Group, ...] = (*loop.layers, *loop.groups, *loop.lanes, *loop.bed_group)
    for owner in owners:
        known = tuple(t for t in owner.line if t.known)
        if known != owner.line:
            loop = loop.with_owner(owner.id, line=known)
    for layer in (*loop.layers, *loop.lanes):
        if layer.source.unknown:
            loop = set_layer(loop, layer.id, parked=True)
    return loop


def _recordings(heard: Heard) -> Iterator[tuple[Layer, str]]:
    """Each layer that is heard with each clip that it plays."""
    for layer in heard.loop.heard():
        for one in layer.source.recordings:
            yield layer, one.clip


def clipped_runs(audio: Stereo) -> int:
    """Return how often a recording stands still at the top of what it holds: runs of 4 frames."""
    top = float(np.abs(audio).max(initial=0.0))
    if top < spec.CLIPPED_LEVEL:
        return 0
    count = 0
    for side in audio:
        for way in (side, -side):
            at = np.concatenate([[False], way >= top * 0.9999, [False]])
            starts, ends = np.flatnonzero(at[1:] & ~at[:-1]), np.flatnonzero(at[:-1] & ~at[1:])
            count += int((ends - starts >= spec.CLIPPED_RUN).sum())
    return count


def _clipped(heard: Heard) -> Finding | None:
    found: dict[str, int] = {}
    any_ = False
    for layer, clip in _recordings(heard):
        heard.go_on()
        any_ = True
        audio, _rate = heard.clips.read(clip)
        runs = clipped_runs(audio)
        if runs:
            found[layer.name] = found.get(layer.name, 0) + runs
    if not any_:
        return None
    if not found:
        return Finding(severity="fine", value=0.0, measured="no recording is clipped")
    count = sum(found.values())
    return Finding(
        severity="should",
        value=count,
        where=f"in {together(list(found))}",
        measured=f"clipped {plural(count, 'time')}; record it again quieter, or another one",
    )


def noise_of(audio: Stereo, rate: int) -> float | None:
    """Return how far a recording's noise lies below its loud moments, in dB; None: none is heard.

    Its softest tenth of moments (50 ms) counts as noise where their spectrum is flat: a held note
    is not.
    """
    step = max(256, int(MOMENT_S * rate))
    mono = audio.mean(axis=0, dtype=np.float64)
    count = mono.size // step
    if count < LEAST_MOMENTS:
        return None
    moments = mono[: count * step].reshape(count, step)
    levels = np.sqrt(np.square(moments).mean(axis=1))
    loud = float(np.quantile(levels, 0.9))
    soft = moments[np.argsort(levels)[: max(2, count // 10)]]
    floor = float(np.sqrt(np.square(soft).mean()))
    if floor <= loud * 1e-5 or loud <= 0:
        return None
    power = (np.abs(np.fft.rfft(soft * np.hanning(step))) ** 2).mean(axis=0)
    hz = np.fft.rfftfreq(step, 1 / rate)
    inside = power[(hz > 500) & (hz < min(8000, rate / 2))] + 1e-20
    flat = float(np.exp(np.log(inside).mean()) / inside.mean())
    return to_db(floor) - to_db(loud) if flat > spec.NOISY else None


def _noise(heard: Heard) -> Finding | None:
    worst: tuple[float, Layer] | None = None
    any_ = False
    for layer, clip in _recordings(heard):
        if layer.recorded is None or layer.recorded.facts.kind == "bed":
            continue  # a bed is noise on purpose
        heard.go_on()
        any_ = True
        audio, rate = heard.clips.read(clip)
        found = noise_of(audio, rate)
        cleaned = any(t.kind == "noise reduction" and t.acts for t in layer.line)
        if found is not None and not cleaned and (worst is None or found > worst[0]):
            worst = (found, layer)
    if not any_:
        return None
    if worst is None or worst[0] <= spec.NOISE_DB:
        text = f"{number(worst[0], '.0f')} dB" if worst else "none audible"
        return Finding(severity="fine", value=worst[0] if worst else None, measured=text)
    level, layer = worst
    return Finding(
        severity="should",
        value=level,
        where=f"in {layer.name}",
        measured=f"noise {number(level, '.0f')} dB below its loud parts",
        change=Change(
            words=f"noise reduction on {layer.name}",
            edit=lambda loop: add_treatment(loop, layer.id, "noise reduction", 0),
        ),
    )


# --- names ----------------------------------------------------------------------------------------


def _names(heard: Heard) -> Finding:
    loop = heard.loop
    if loop.title.strip().casefold() in UNTITLED:
        return Finding(
            severity="should", measured="the loop has no name yet", where="at the top left"
        )
    if len(loop.title) > spec.LONG_TITLE:
        return Finding(
            severity="should",
            measured=f"its name has {len(loop.title)} characters; file names get it cut",
            change=Change(words=f"cut it to {spec.LONG_TITLE} characters", edit=_shorter),
        )
    owners: tuple[Layer | Group, ...] = (*loop.heard(), *loop.groups)
    counts = Counter(slug(one.name) for one in owners)
    twice = [name for name, count in counts.items() if count > 1]
    if twice:
        names = [x.name for x in loop.heard() if slug(x.name) in twice]
        return Finding(
            severity="should",
            where=f"in {together(names[:4])}",
            measured="layers whose files would have the same name",
            change=Change(words="number them", edit=_numbered),
        )
    return Finding(severity="fine", measured="each file has a name of its own")


def _shorter(loop: Loop) -> Loop:
    return replace(loop, title=loop.title[: spec.LONG_TITLE].rstrip())


def _numbered(loop: Loop) -> Loop:
    """Give each layer and group a name of its own in file names, too."""
    taken: set[str] = set()
    owners: tuple[Layer | Group, ...] = (*loop.layers, *loop.groups)
    for owner in owners:
        name = owner.name
        count = 2
        while slug(name) in taken:
            name = free_name(f"{owner.name} {count}", ())
            count += 1
        taken.add(slug(name))
        if name != owner.name:
            loop = loop.with_owner(owner.id, name=name)
    return loop


# --- stems and rights -----------------------------------------------------------------------------


def _stems(heard: Heard) -> Finding | None:
    if not heard.stems:
        return None
    bare, added = heard.bare, heard.stems_sum
    if bare.shape != added.shape:
        return Finding(
            severity="must",
            measured=f"the stems last {added.shape[1]} frames, their sum {bare.shape[1]}",
        )
    left = float(np.sqrt(np.square(bare - added).mean(dtype=np.float64)))
    whole = float(np.sqrt(np.square(bare).mean(dtype=np.float64)))
    found = to_db(left) - to_db(whole) if left > 0 and whole > 0 else -120.0
    stems = plural(len(heard.stems), "stem")
    if found > spec.STEMS_DB:
        return Finding(
            severity="must",
            value=found,
            measured=f"{stems} differ from the sum by {number(found, '.0f')} dB",
        )
    peaks = {"their sum": bare} | heard.stems
    loudest = max(peaks, key=lambda name: float(np.abs(peaks[name]).max(initial=0.0)))
    peak = to_db(float(np.abs(peaks[loudest]).max(initial=0.0)))
    if peak > spec.FULL_PEAK_DBTP:
        return Finding(
            severity="should",
            value=peak,
            where=f"in {loudest}",
            measured=f"peaks at {number(peak, '+.1f')} dBFS: 16 and 24 bit would clip; "
            "export 32-bit float, or lower some layers",
        )
    return Finding(
        severity="fine",
        value=found,
        measured=f"{stems} add up to the sum before the whole loop's treatments",
    )


def _rights(heard: Heard) -> Finding:
    sheet = rights_of(heard.document)
    if sheet.complete:
        return Finding(
            severity="fine",
            value=0.0,
            measured=f"{sheet.licence_words}: {plural(len(sheet.entries), 'source')}, nothing open",
        )
    unclear = any(one.in_the_way for one in sheet.entries) or not sheet.credits.licence
    more = f" and {len(sheet.open) - 1} more" if len(sheet.open) > 1 else ""
    return Finding(
        severity="must" if unclear else "should",
        value=len(sheet.open),
        measured=sheet.open[0] + more,
        where="on the rights sheet",
    )


CONTENTS = (
    Check(name="unknown", label="Sounds and treatments", find=_unknown,
          about="nothing that this program does not know and would leave out"),
    Check(name="clipped", label="Clipped recordings", find=_clipped,
          about="no recording is clipped"),
    Check(name="noise", label="Noise floor", find=_noise,
          about=f"recordings' noise {number(-spec.NOISE_DB)} dB or more below their loud parts"),
    Check(name="names", label="Names", find=_names,
          about="the loop has a name, and each file one of its own"),
    Check(name="stems", label="Stems", find=_stems,
          about=f"add up to the sum within {number(spec.STEMS_DB)} dB, none over full scale"),
    Check(name="rights", label="Rights", find=_rights,
          about="each source may be passed on as the loop is; people and shares are named"),
)  # fmt: skip
