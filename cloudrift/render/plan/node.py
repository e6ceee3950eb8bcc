"""What a step is: a pure function of its inputs and of what it declares once, with a key."""

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import ClassVar, NamedTuple

import msgspec

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped


class PreviousRun(NamedTuple):
    """What a step like another has made: the step, its inputs' audio, and its own."""

    node: "Node"
    inputs: list[Stereo]
    out: Stereo


def hash_of_parts(*parts: object) -> bytes:
    """Return a hash of plain values, 16 bytes."""
    return hashlib.blake2b(msgspec.msgpack.encode(parts), digest_size=16).digest()


class Node(ABC):
    """One step.

    Parameters
    ----------
    place : where in the loop it stands: ids and names, whatever its settings.
    inputs : the steps whose audio it is made from.
    depends : all else that decides what it makes, as plain values.
    given : what of that counts as input: two steps that differ in nothing else are alike.
    label : what it is, in words, for progress.
    """

    kind: ClassVar[str]

    def __init__(
        self,
        *,
        place: tuple[str, ...],
        depends: tuple[object, ...],
        label: str,
        inputs: tuple["Node", ...] = (),
        given: object = None,
    ) -> None:
        self.inputs, self.label = inputs, label
        self.key: bytes = hash_of_parts(self.kind, depends, given, [node.key for node in inputs])
        self.like: bytes = hash_of_parts(self.kind, place, depends)
        self.place: bytes = hash_of_parts(self.kind, place)

    @property
    def frames(self) -> int | None:
        """How many frames it makes by itself; None where that follows from what comes in."""
        return None

    @abstractmethod
    def make(self, inputs: list[Stereo]) -> Stereo:
        """Make the whole of it."""

    def follow(self, former: PreviousRun, inputs: list[Stereo]) -> Stereo | None:
        """Make it from what a step like it made of other input, running only what differs.

        None where that is no less work than the whole.
        """
        del former, inputs
        return None

    @abstractmethod
    def stretch(
        self, inputs: list[Looped], start: int, count: int, former: PreviousRun | None = None
    ) -> Stereo | None:
        """Make only some frames, or nearly so; None where that cannot be.

        ``former`` is what a step like it has made, if there is one: what sounded until ``start``
        rings on from it.
        """


def steps(node: Node) -> Iterator[Node]:
    """Return a step and all that it is made from."""
    yield node
    for one in node.inputs:
        yield from steps(one)
