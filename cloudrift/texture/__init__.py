"""Treatments: audio in, audio out, in the steady state of a loop; lines of them, read downwards.

Knows tempo and chord places through a ``Context``. Knows nothing of layers or documents.
"""

from cloudrift.texture.catalogue import FAMILIES, KINDS, find_kind
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.ride import Ride, RidePoint
from cloudrift.texture.treatment import Line, Treatment

__all__ = [
    "FAMILIES",
    "KINDS",
    "Context",
    "Kind",
    "Line",
    "Ride",
    "RidePoint",
    "Treatment",
    "find_kind",
]
