"""Names that files of schema 13 and earlier use, and what the same things are called today.

Loops, finishes and style cards of those days are read through ``todays_names``; nothing else knows
an early name.
"""

from typing import Any

KINDS = {  # of treatments, and of lenses
    "backward": "reverse",
    "broken": "arpeggio",
    "clicks": "de-click",
    "ghost": "reverse reverb",
    "hum": "de-hum",
    "narrow band": "band-pass",
    "noise cleaner": "noise reduction",
    "shadow": "harmoniser",
    "slow": "half speed",
    "smear": "granular",
    "swirl": "phaser",
    "tamer": "resonance tamer",
    "width move": "width sweep",
}
HABITS = {  # of style cards: what a move does
    "begin away from home": "start away from the tonic",
    "broken": "arpeggio",
    "every second chord late": "every other chord late",
    "nearest voices": "nearest voicings",
    "print, backward in order": "print, reversed in order",
    "struck again": "repeated chords",
}
SHIFT_WAYS = {"hold": "keep length", "tape": "like tape"}


def todays_names(raw: Any) -> Any:
    """Return what was read from JSON or TOML with today's names; it is changed in place."""
    if isinstance(raw, list):
        for item in raw:
            todays_names(item)
    elif isinstance(raw, dict):
        for key, names in (("kind", KINDS), ("does", HABITS)):
            if isinstance(raw.get(key), str):
                raw[key] = names.get(raw[key], raw[key])
        if "draw" in raw:
            raw["variation"] = raw.pop("draw")
        if raw.get("kind") == "shift":
            _rename_way(raw.get("settings"))
        for item in raw.values():
            todays_names(item)
    return raw


def _rename_way(settings: Any) -> None:
    """Settings are a map in TOML, and pairs of a name and a value in JSON."""
    if isinstance(settings, dict):
        way = settings.get("way")
        if isinstance(way, str):
            settings["way"] = SHIFT_WAYS.get(way, way)
        elif isinstance(way, list):  # a card may name several
            settings["way"] = [SHIFT_WAYS.get(one, one) if isinstance(one, str) else one
                               for one in way]  # fmt: skip
    elif isinstance(settings, list):
        for pair in settings:
            if isinstance(pair, list) and len(pair) == 2 and pair[0] == "way":
                pair[1] = SHIFT_WAYS.get(pair[1], pair[1]) if isinstance(pair[1], str) else pair[1]
