"""Weathering: what years of playing do to a recording. One card, its parts each in a module."""

from cloudrift.texture.kinds.weathering.card import WEATHERING

__all__ = ["WEATHERING"]
