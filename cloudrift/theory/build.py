"""Build: what a chord is made of and how it is set out, as something that can be changed.

Voices are the truth; a build is read from them, one thing in it is changed, and voices are made
from it again. ``voices_of(build_of(voices, root)) == voices`` wherever the spacing is a known one.
"""

import functools
from dataclasses import dataclass, replace
from typing import Literal

from cloudrift.ground.errors import CloudriftError
from cloudrift.theory.chord import chord_tones, stacked
from cloudrift.theory.key import Key
from cloudrift.theory.movement import total_movement
from cloudrift.theory.voicing import bass_below, nearest_voicing, next_above

Spacing = Literal["close", "open", "cluster", "dropped top", "own"]
Third = Literal["own", "raised", "none", "sus2", "sus4"]
Extension = Literal["6", "7", "9", "11", "13"]
SPACINGS: tuple[Spacing, ...] = ("close", "open", "cluster", "dropped top")
THIRDS: tuple[Third, ...] = ("own", "raised", "none", "sus2", "sus4")
EXTENSIONS: tuple[Extension, ...] = ("6", "7", "9", "11", "13")
MAX_BASS_OCTAVES = 2
BASS_GAP = 5  # semitones: what lies closer is part of the chord

# For roots outside the scale, which has no ninth or thirteenth of its own for them.
PLAIN_INTERVALS: dict[Extension, int] = {"6": 9, "7": 10, "9": 2, "11": 5, "13": 9}
INTERVALS: dict[Extension, tuple[int, ...]] = {
    "6": (9,),
    "7": (10, 11, 9),
    "9": (2, 1, 3),
    "11": (5, 6),
    "13": (9, 8),
}
STACK_PLACE: dict[Extension, int] = {"7": 3, "9": 4, "11": 5, "13": 6}


@dataclass(frozen=True, kw_only=True)
class Build:
    """A chord taken apart.

    ``tones`` are pitch classes in the order of the stack, ``lowest`` the one that the body stands
    on, ``bass`` how many octaves below it a bass note lies (0: none), ``top_root`` whether the
    root rings once more on top, ``register`` the mean pitch of the body (MIDI number).
    """

    root: int
    tones: tuple[int, ...]
    lowest: int
    spacing: Spacing
    register: float
    bass: int = 0
    bass_pc: int = 0
    top_root: bool = False


def arranged(
    tones: tuple[int, ...], lowest: int, spacing: Spacing, register: float
) -> tuple[int, ...]:
    """Set tones out in a spacing above a lowest one, as near to a register as octaves allow.

    Close stacks the tones in their order; open lifts every second of the lower ones an octave;
    cluster packs all of them into one octave; dropped top brings the top voice of the close
    position an octave down and the lowest out of its way, an octave down too.
    """
    at = tones.index(lowest)
    order = tones[at:] + tones[:at]
    close = [order[0]]
    for pc in order[1:]:
        close.append(next_above(close[-1], pc))
    match spacing:
        case "close":
            voices = close
        case "open":
            lifted = {1} if len(close) < 5 else {1, 3}
            voices = [v + 12 * (i in lifted) for i, v in enumerate(close)]
        case "cluster":
            voices = [lowest + (pc - lowest) % 12 for pc in order]
        case "dropped top":
            voices = [close[0] - 12, *close[1:-1], close[-1] - 12] if len(close) > 2 else close
        case _:
            raise CloudriftError(f"notes can't be voiced in the spacing {spacing!r}")
    octaves = round((register - sum(voices) / len(voices)) / 12)
    return tuple(sorted(v + 12 * octaves for v in voices))


def arranged_near(
    before: tuple[int, ...], tones: tuple[int, ...], spacing: Spacing
) -> tuple[int, ...]:
    """Set tones out in a spacing so that they move least from the body before.

    A spacing of the composer's own has no rule to follow: then every note takes the octave that
    moves least.
    """
    if spacing == "own":
        return nearest_voicing(before, tones)
    register = _mean(before)
    found = {
        arranged(tones, lowest, spacing, register + shift)
        for lowest in tones
        for shift in (-7, 0, 7)
    }
    return min(found, key=lambda v: (total_movement(before, v) + 0.1 * abs(_mean(v) - register), v))


def voices_of(build: Build, own: tuple[int, ...] = ()) -> tuple[int, ...]:
    """Return the voices of a build, low to high; ``own`` is the body of one in its own spacing."""
    if build.spacing == "own":
        body = own
    else:
        body = arranged(build.tones, build.lowest, build.spacing, build.register)
    voices = set(body)
    if build.bass:
        voices.add(bass_below(build.bass_pc, body, octaves=build.bass))
    if build.top_root:
        voices.add(next_above(body[-1], build.root))
    return tuple(sorted(voices))


@functools.lru_cache(maxsize=4096)
def parts(voices: tuple[int, ...], root: int) -> tuple[tuple[int, ...], Build]:
    """Take voices apart into the body and the build.

    A lowest voice counts as a bass note where the rest without it is set out in a known spacing,
    or where it is doubled above and far enough below; a root that is there already counts as
    doubled on top.
    """
    ordered = tuple(sorted(voices))
    for bass, top in ((False, False), (True, False), (False, True), (True, True)):
        found = _known(ordered, root, bass=bass, top=top)
        if found:
            return found
    bass = len(ordered) > 3 and _bass_apart(ordered)
    body = ordered[1:] if bass else ordered
    tones = stacked(root, {v % 12 for v in body})
    return body, Build(
        root=root,
        tones=tones,
        lowest=body[0] % 12,
        spacing="own",
        register=_mean(body),
        bass=_octaves_below(ordered[0], body) if bass else 0,
        bass_pc=ordered[0] % 12,
    )


def _bass_apart(ordered: tuple[int, ...]) -> bool:
    gap = ordered[1] - ordered[0]
    doubled = ordered[0] % 12 in {v % 12 for v in ordered[1:]}
    return gap >= 12 or (gap >= BASS_GAP and doubled)


def build_of(voices: tuple[int, ...], root: int) -> Build:
    """Read a build from voices."""
    return parts(voices, root)[1]


def _mean(voices: tuple[int, ...]) -> float:
    return sum(voices) / len(voices)


def _octaves_below(bass: int, body: tuple[int, ...]) -> int:
    first = bass_below(bass % 12, body)
    return min(max(1, (first - bass) // 12 + 1), MAX_BASS_OCTAVES)


def _known(
    ordered: tuple[int, ...], root: int, *, bass: bool, top: bool
) -> tuple[tuple[int, ...], Build] | None:
    body = ordered[bass : len(ordered) - top]
    pcs = {v % 12 for v in body}
    if len(body) < 2 or len(pcs) != len(body):
        return None
    if top and (ordered[-1] % 12 != root or root not in pcs):
        return None
    octaves = 0
    if bass:
        octaves = _octaves_below(ordered[0], body)
        # A lone third or seventh far below is a voice of the chord; the upper part must stand.
        if len(body) < 3 or bass_below(ordered[0] % 12, body, octaves=octaves) != ordered[0]:
            return None
    tones = stacked(root, pcs)
    for spacing in SPACINGS:
        if arranged(tones, body[0] % 12, spacing, _mean(body)) == body:
            return body, Build(
                root=root,
                tones=tones,
                lowest=body[0] % 12,
                spacing=spacing,
                register=_mean(body),
                bass=octaves,
                bass_pc=ordered[0] % 12,
                top_root=top,
            )
    return None


def rebuilt(voices: tuple[int, ...], root: int, **changes: object) -> tuple[int, ...]:
    """Return voices with one thing about them changed: a field of ``Build`` by name.

    New tones in a spacing of the composer's own are placed where they move least.
    """
    body, before = parts(voices, root)
    build = replace(before, **changes)  # type: ignore[arg-type]
    if not build.tones:
        raise CloudriftError("a chord needs at least one note; keep one")
    if build.lowest not in build.tones:
        build = replace(build, lowest=build.tones[0])
    if "spacing" in changes:
        build = replace(build, register=_dropped_from(before, build, body[-1]))
    if before.bass and build.bass and build.bass_pc == before.bass_pc and build.root != before.root:
        build = replace(build, bass_pc=build.root)
    if build.spacing == "own" and build.tones != before.tones:
        kept = [v % 12 for v in body if v % 12 in build.tones]
        new = [pc for pc in build.tones if pc not in kept]
        body = nearest_voicing(body, tuple(kept + new))
    return voices_of(build, body)


def _dropped_from(before: Build, build: Build, top: int) -> float:
    """The register of a chord whose spacing changes: with the top dropped it lies lower.

    ``top`` is its highest voice until now, which nothing rises above. The two voices that go down
    an octave take the mean with them; else the octave nearest to the old mean would lift the whole
    chord instead.
    """
    if (before.spacing == "dropped top") == (build.spacing == "dropped top"):
        return build.register
    count = len(build.tones)
    if count < 3:
        return build.register
    if build.spacing == "dropped top":
        close = arranged(build.tones, build.lowest, "close", build.register)
        register = _mean(close) - 24 / count
        above = arranged(build.tones, build.lowest, "dropped top", register)[-1] - top
        return register - 12 * max(0, -(-above // 12))
    return build.register + 24 / count


def third_of(root: int, tones: tuple[int, ...], key: Key) -> Third:
    """Say which third a chord has."""
    intervals = {(pc - root) % 12 for pc in tones}
    if 4 in intervals:
        return "own" if own_third(root, key) == 4 else "raised"
    if 3 in intervals:
        return "own"
    return "sus4" if 5 in intervals else "sus2" if 2 in intervals else "none"


def own_third(root: int, key: Key) -> int:
    """The interval of the third that the scale has above a root; minor for roots outside it."""
    if root not in key.scale:
        return 3
    return (chord_tones(key, key.scale.index(root) + 1)[1] - root) % 12


def with_third(root: int, tones: tuple[int, ...], third: Third, key: Key) -> tuple[int, ...]:
    """Give a chord another third, or what stands for it."""
    intervals = {(pc - root) % 12 for pc in tones}
    if intervals & {3, 4}:
        intervals -= {4} if 4 in intervals else {3}
    else:
        intervals -= {5} if 5 in intervals else {2}
    match third:
        case "own":
            intervals.add(own_third(root, key))
        case "raised":
            intervals.add(4)
        case "sus2":
            intervals.add(2)
        case "sus4":
            intervals.add(5)
        case "none":
            pass
        case _:
            raise CloudriftError(f"there is no third called {third!r}")
    return stacked(root, {(root + i) % 12 for i in intervals})


def extension_pc(root: int, extension: Extension, key: Key) -> int:
    """The note that a seventh, ninth, … is above a root: the key's own where it has one."""
    place = STACK_PLACE.get(extension)
    if place is None or root not in key.scale:
        return (root + PLAIN_INTERVALS[extension]) % 12
    return chord_tones(key, key.scale.index(root) + 1, count=7)[place]


def extensions_of(root: int, tones: tuple[int, ...]) -> frozenset[Extension]:
    """Say which of 6, 7, 9, 11, 13 a chord has; a sixth under a seventh is a thirteenth."""
    intervals = {(pc - root) % 12 for pc in tones}
    third = bool(intervals & {3, 4})
    found: set[Extension] = set()
    seventh = intervals & {10, 11} or (9 in intervals and {3, 6} <= intervals)
    if seventh:
        found.add("7")
    if 9 in intervals and "7" not in found:
        found.add("6")
    if "7" in found and intervals & {10, 11} and (9 in intervals or {7, 8} <= intervals):
        found.add("13")
    if (third and intervals & {1, 2}) or {3, 4} <= intervals or {2, 5} <= intervals:
        found.add("9")
    if (third and 5 in intervals) or {6, 7} <= intervals:
        found.add("11")
    return frozenset(found)


def with_extension(
    root: int, tones: tuple[int, ...], extension: Extension, key: Key, *, on: bool
) -> tuple[int, ...]:
    """Add a sixth, seventh, ninth, eleventh or thirteenth to a chord, or take it away."""
    pcs = set(tones)
    if on:
        pcs.add(extension_pc(root, extension, key))
    else:
        role = {(root + i) % 12 for i in INTERVALS[extension]}
        if extension == "7" and {(root + 10) % 12, (root + 11) % 12} & pcs:
            role.discard((root + 9) % 12)  # a thirteenth is not the seventh
        if extension == "11" and (root + 7) % 12 not in pcs:
            role.discard((root + 6) % 12)  # a lowered fifth stays
        if extension == "13" and not {(root + 6) % 12, (root + 7) % 12} & pcs:
            role.discard((root + 8) % 12)  # a raised fifth stays
        if extension == "9" and not {(root + 3) % 12, (root + 4) % 12} <= pcs:
            role.discard((root + 3) % 12)
        pcs -= role
    return stacked(root, pcs)


def rub_pitch(voices: tuple[int, ...], voice: int, key: Key) -> int:
    """The half-step neighbour of a voice: one of the scale if there is one, else the upper."""
    free = [p for p in (voices[voice] + 1, voices[voice] - 1) if p not in voices]
    if not free:
        raise CloudriftError("that voice already has a half-step neighbour on both sides")
    return next((p for p in free if key.has(p)), free[0])
