"""Delivery: file names, what is written, and writing it."""

from cloudrift.deliver.writer import Order, Parcel, deliver, parcels

__all__ = ["Order", "Parcel", "deliver", "parcels"]
