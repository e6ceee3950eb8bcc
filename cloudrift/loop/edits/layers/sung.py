"""Takes from a microphone: what is heard while one is sung, and how it comes into the loop."""

from enum import Enum

from msgspec.structs import replace

from cloudrift.ground.words import MOST_NAME
from cloudrift.loop.edits.layers import layer_edits, line_edits, recordings
from cloudrift.loop.edits.layers.finishes import lay_finish
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.loop.sounding import key_heard
from cloudrift.notes.listening import Heard
from cloudrift.texture.finish import Finish
from cloudrift.theory.key import Key

OWN = "own recording"


class Over(Enum):
    """What is heard while a take is sung."""

    LOOP = "the loop"
    CLICK = "a click"
    NOTHING = "nothing"


def heard_meanwhile(loop: Loop, over: Over, instead_of: str = "") -> Loop:
    """Return what is heard while a take is sung: without the layer that it may take the place of.

    A line of the whole loop that changes its length or its pitch rests meanwhile: the take is a
    layer, and will go through that line itself.
    """
    if (loop.sounding_tempo, key_heard(loop)) != (loop.tempo, loop.key):
        loop = line_edits.set_line(loop, None, ())
    for layer in loop.layers:
        if layer.mute or (over is not Over.CLICK and layer.id != instead_of):
            continue
        loop = layer_edits.set_layer(loop, layer.id, mute=True)
    return loop


def facts_of_take(
    key: Key,
    heard: Heard,
    name: str,
    lead_s: float,
    *,
    tempo: float,
    pitched: bool,
    in_time: bool,
    by: str,
) -> Facts:
    """Return what is known of a take: the loop's key and tempo (BPM), for it was sung to them.

    ``lead_s`` is where in it the loop begins, ``by`` what it was recorded with. One that was sung
    to nothing is what it is heard to be.
    """
    facts = recordings.facts_of(heard, name, origin=f"recorded by {by}"[:MOST_NAME], licence=OWN)
    if not in_time:
        return facts if pitched else replace(facts, key=None, pitch=0.0, second_key=None)
    return replace(
        facts, kind="phrase", tempo=tempo, tempo_sure=0.0, key_sure=0.0, second_key=None,
        doubts=(), pitch=0.0, key=key if pitched else None,
        **recordings.even_beats(facts, tempo, lead_s),
    )  # fmt: skip


def put_take(
    loop: Loop, clip: str, facts: Facts, layer_id: str = "", finish: Finish | None = None
) -> Loop:
    """Add a take as a layer, through a finish if there is one, or put it in another's place.

    In another's place, it goes through the treatments that are there.
    """
    if not facts.tempo:
        source = recordings.laid_in(loop, clip, facts)
    else:
        gain = recordings.usual_gain(facts)
        source = FromRecording(clip=clip, facts=facts, fit="tempo", gain_db=gain)
    if layer_id:
        return recordings.put_instead(loop, layer_id, source, 0.0)
    loop = recordings.add_recording(loop, source, role="voice")
    return lay_finish(loop, loop.layers[-1].id, finish, behind=False) if finish else loop
