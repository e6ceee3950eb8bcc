"""Delivery: checks, rights, file names, what is written, and writing it."""

from cloudrift.deliver.order import PARTS, PRESETS, Order
from cloudrift.deliver.parcels import Parcel, free_number, parcels
from cloudrift.deliver.writer import deliver

__all__ = ["PARTS", "PRESETS", "Order", "Parcel", "deliver", "free_number", "parcels"]
