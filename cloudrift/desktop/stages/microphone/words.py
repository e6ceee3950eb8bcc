"""What is said of takes and of a microphone."""

from dataclasses import dataclass

from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.presence import over_the_rest_db
from cloudrift.desktop.stages.microphone.taker import MOST_LATE_MS, State, Take
from cloudrift.ground.settings import Field
from cloudrift.ground.words import number
from cloudrift.loop.edits.layers.recordings import usual_gain
from cloudrift.loop.model.recorded import Facts

ROOMY_DB = 3.0  # from where words are plainly heard over the rest


SAYS = {
    State.OFF: "No microphone is open; choose one.",
    State.PREPARES: "The stand-in finds its note…",
    State.COUNT_IN: "Count-in…",
    State.ENDS: "Splitting the recording into takes…",
    State.MEASURES: "Waiting for the sweeps…",
}


LATE = Field(
    name="late",
    label="Latency",
    default=80,
    unit="ms",
    low=0,
    high=MOST_LATE_MS,
    step=0.5,
    hint="from playback to input: takes are moved earlier by it",
)


@dataclass(frozen=True)
class Ready:
    """A take as it goes into the loop: the clip, what is known of it, and its room in the loop."""

    clip: str
    facts: Facts
    over_db: float | None


def room_of(take: Take, audio: Stereo, facts: Facts) -> float | None:
    """By how much a take stands over what it was sung to, where words are told apart (dB)."""
    if take.rest is None:
        return None
    sung = audio[:, take.turn.lead :] * to_gain(usual_gain(facts))
    return over_the_rest_db(sung, take.rest, take.rate)


def put_words(take: Take, ready: Ready, name: str) -> str:
    """Say what a take has become, and how far it stands over the loop."""
    words = f"{take.name} is now a layer" if name == take.name else f"{take.name} is now {name}"
    if ready.over_db is None:
        return words
    over = f"{number(abs(ready.over_db), '.1f')} dB"
    if ready.over_db >= ROOMY_DB:
        return f"{words}; between 1 and 4 kHz it is {over} above the loop: there is room for it"
    if ready.over_db >= 0:
        return f"{words}; between 1 and 4 kHz it is only {over} above the loop"
    return (
        f"{words}; between 1 and 4 kHz the loop masks it by {over}: make room there, or turn it up"
    )
