"""All kinds of mark, by name."""

from cloudrift.style.marks import (
    chords,
    flip,
    form,
    groove,
    heard,
    layers,
    playing,
    setting,
    texture,
)
from cloudrift.style.marks.kind import GROUPS, Kind

KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in sorted(
        (
            *setting.KINDS,
            *chords.KINDS,
            *layers.KINDS,
            *playing.KINDS,
            *texture.KINDS,
            *flip.KINDS,
            *heard.KINDS,
            *groove.KINDS,
            *form.KINDS,
        ),
        key=lambda kind: GROUPS.index(kind.group),
    )
}
