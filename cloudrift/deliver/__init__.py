"""Delivery: file names, what is written, and writing it."""

from cloudrift.deliver.writer import Order, Parcel, deliver, free_number, parcels

__all__ = ["Order", "Parcel", "deliver", "free_number", "parcels"]
