"""Marks of the setting: tempo, mode, length."""

from cloudrift.loop.edits import loop_edits
from cloudrift.loop.model import spec
from cloudrift.loop.model.loop import Loop
from cloudrift.style.marks.kind import Change, Found, Kind, to_range
from cloudrift.style.marks.view import View
from cloudrift.theory.key import SCALES, Key


def _tempo(view: View) -> Found:
    return Found(value=view.loop.tempo)


def _to_tempo(view: View, asked: tuple[float, float]) -> Change:
    tempo = round(to_range(view.loop.tempo, asked))
    return Change(words=f"to {tempo} BPM", edit=lambda loop: loop_edits.set_tempo(loop, tempo))


def _mode(view: View) -> Found:
    return Found(value=view.loop.key.mode, where=view.loop.key.text)


def _to_mode(view: View, asked: tuple[str, ...]) -> Change:
    key = Key(view.loop.key.tonic, asked[0])

    def edit(loop: Loop) -> Loop:
        return loop_edits.set_key(loop, key, shift=0)

    return Change(words=f"to {key.text}", edit=edit)


def _bars(view: View) -> Found:
    return Found(value=view.bars)


def _to_bars(view: View, asked: tuple[float, float]) -> Change | None:
    wanted = [n for n in (4, 8, 16, 2, 12, 32) if asked[0] <= n <= asked[1]]
    if not wanted:
        return None
    return Change(words=f"{wanted[0]} bars", edit=lambda loop: loop_edits.set_bars(loop, wanted[0]))


KINDS = (
    Kind(name="tempo", label="Tempo", group="Setting", unit="BPM", low=spec.MIN_TEMPO_BPM,
         high=spec.MAX_TEMPO_BPM, about="the written tempo", measure=_tempo, change=_to_tempo),
    Kind(name="mode", label="Mode", group="Setting", about="the written scale",
         words=tuple(SCALES), measure=_mode, change_word=_to_mode),
    Kind(name="length", label="Length", group="Setting", unit="bars", low=spec.MIN_BARS,
         high=spec.MAX_BARS, log=True, about="number of bars", measure=_bars,
         change=_to_bars),
)  # fmt: skip
