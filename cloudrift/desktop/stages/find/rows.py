"""What a row of the list says of a recording that was found."""

from cloudrift.exchange import Found, Wanted
from cloudrift.ground.words import number, plural
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_of_layers


def row_of(found: Found) -> tuple[str, ...]:
    """Return what a row says: name, kind, key, tempo, length, licence; empty where not known."""
    offer = found.offer
    key = offer.key.text if offer.key else ""
    if key and found.semitones:
        key += f"  {number(found.semitones, '+d')} st"
    tempo = f"{offer.tempo:.5g} BPM" if offer.tempo else ""
    if tempo and abs(found.pace - 1) > 0.0005:
        tempo += f"  {number(100 * (found.pace - 1), '+.0f')} %"
    length = plural(offer.bars, "bar") if offer.bars else f"{offer.seconds:.1f} s"
    return offer.name, offer.kind, key, tempo, length, offer.licence or "unknown"


def text_of(found: Found) -> str:
    """Return a row's two lines."""
    name, *facts = row_of(found)
    return f"{name}\n{' · '.join(one for one in facts if one)}"


def about(found: Found) -> str:
    """Say what is known of a recording, and what it takes to fit."""
    offer = found.offer
    parts = [f"{offer.name}, a {offer.kind}" + (f" by {offer.maker}" if offer.maker else "")]
    parts += [", ".join(offer.words)] if offer.words else []
    parts += [offer.licence or "licence unknown"]
    takes = []
    if found.semitones:
        steps = "semitone" if abs(found.semitones) == 1 else "semitones"
        takes.append(f"{number(found.semitones, '+d')} {steps} to the key")
    if abs(found.pace - 1) > 0.0005:
        takes.append(f"{number(100 * (found.pace - 1), '+.0f')} % to the tempo")
    return "\n".join((*parts, "; ".join(takes) or "fits unchanged"))


def wanted_in(loop: Loop, words: str, kind: str, within_st: float, within_percent: float) -> Wanted:
    """Return what is looked for in a loop: what comes to what is heard of it."""
    return Wanted(
        words=words,
        kind=kind,
        key=key_of_layers(loop),
        within_st=round(within_st),
        tempo=loop.tempo,
        within_percent=within_percent,
    )
