"""A parcel: one file to be written; and the parcels of an order as they are found."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from cloudrift.audio.files import write_atomically
from cloudrift.audio.sound_file import find_format, write_sound
from cloudrift.deliver.making import Making, Sound, name_of
from cloudrift.deliver.order import Order
from cloudrift.loop.model.document import Document

WORDS_OF_ONCE = ", one pass with its tail"


@dataclass(frozen=True, kw_only=True)
class Parcel:
    """One file to be written: its name, the part it belongs to, what is in it, how it is made.

    ``sound`` is what a sound file holds; None in one that is no sound. ``treated`` says whether it
    sounds as the whole loop does, in its key and tempo; ``role`` is that of the layer it is of.
    """

    name: str
    part: str
    what: str
    write: Callable[[Path, Making], None]
    sound: Callable[[Making], Sound] | None = None
    treated: bool = True
    role: str = "keys"


class Parcels:
    """The parcels of an order as they are found."""

    def __init__(self, document: Document, order: Order, number: int) -> None:
        self.document, self.order = document, order
        self.with_bed, self.loop = document.loop, replace(document.loop, bed=None)
        self.number = f"{number}" if number > 1 else ""
        self.once = "once" if order.once else ""
        self.suffix = find_format(order.format_name).suffix
        self.found: list[Parcel] = []

    def name(self, *words: str, treated: bool, suffix: str) -> str:
        """Return a file's name from the words of its part."""
        part = "_".join(word for word in (*words, self.number) if word)
        return name_of(self.document, self.order, part, treated=treated) + suffix

    def sound(
        self,
        part: str,
        word: str,
        what: str,
        make: Callable[[Making], Sound],
        *,
        treated: bool = True,
        title: str | None = None,
        goes_round: bool = True,
        role: str = "keys",
    ) -> None:
        """Add a sound file; ``word`` is its part of the name."""
        once = self.once if goes_round else ""
        name = self.name(word, once, treated=treated, suffix=self.suffix)
        told = what + (WORDS_OF_ONCE if once else "")
        write = partial(
            _write_sound, make=make, what=word if title is None else title, treated=treated
        )
        self.found.append(
            Parcel(name=name, part=part, what=told, write=write, sound=make, treated=treated,
                   role=role)
        )  # fmt: skip

    def bytes(
        self,
        part: str,
        words: tuple[str, ...],
        suffix: str,
        what: str,
        make: Callable[[Making], bytes],
        *,
        treated: bool,
    ) -> None:
        """Add a file that is no sound."""
        name = self.name(*words, treated=treated, suffix=suffix)
        write = partial(_write_bytes, make=make)
        self.found.append(Parcel(name=name, part=part, what=what, write=write, treated=treated))


def _write_sound(
    path: Path, making: Making, *, make: Callable[[Making], Sound], what: str, treated: bool
) -> None:
    order = making.order
    sound = making.finished(making.take(make))
    write_sound(
        path,
        sound.audio,
        making.file_rate,
        format_name=order.format_name,
        bits=order.bits,
        dither=order.dither,
        about=making.about(what, sound, treated=treated),
    )


def _write_bytes(path: Path, making: Making, *, make: Callable[[Making], bytes]) -> None:
    data = make(making)
    write_atomically(path, lambda file: file.write(data), follow_link=False)
