"""File names that carry what the next person needs: title, tempo and key."""

import re
import unicodedata

from cloudrift.ground.words import for_a_file
from cloudrift.theory.key import Key


def slug(text: str) -> str:
    """Return a name for files: lower case, Latin letters without marks, single hyphens.

    Letters of any script stay as they are; what is too long for a name is cut.
    """
    plain = unicodedata.normalize("NFKD", text.replace("♯", "sharp").replace("♭", "flat"))
    plain = unicodedata.normalize("NFC", re.sub("(?<=[A-Za-z])[\u0300-\u036f]+", "", plain)).lower()
    return for_a_file(re.sub(r"[\W_]+", "-", plain)).strip("-") or "loop"


def tempo_text(tempo: float) -> str:
    """Write a tempo for a file name: ``142bpm``, ``119.41bpm``."""
    return f"{tempo:.2f}".rstrip("0").rstrip(".") + "bpm"


def stem_of(title: str, tempo: float, key: Key) -> str:
    """Return ``title_142bpm_fsharp-minor``."""
    return f"{slug(title)}_{tempo_text(tempo)}_{key.slug}"
