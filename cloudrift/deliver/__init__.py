"""Delivery: checks, rights, file names, what is written, and writing it."""

from cloudrift.deliver.order import PARTS, PRESETS, Order
from cloudrift.deliver.parcel import Parcel
from cloudrift.deliver.parcels import free_number, parcels
from cloudrift.deliver.writer import deliver

__all__ = ["PARTS", "PRESETS", "Order", "Parcel", "deliver", "free_number", "parcels"]
