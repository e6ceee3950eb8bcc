"""The exchange: an outside library of phrases, searched by word, key and tempo, and fetched.

What a service must do is in ``service``; ``stand_in`` is one that ships with the program and makes
its phrases itself, so that everything can be tried without a network.
"""

from cloudrift.exchange.service import Found, Offer, Service, Wanted
from cloudrift.exchange.stand_in import StandIn

__all__ = ["Found", "Offer", "Service", "StandIn", "Wanted"]
