"""What the Groove stage offers while there is no bed: manners, heard while one rests."""

from collections.abc import Callable
from functools import partial

from cloudrift.desktop.kit.lead import Lead, LeadTile
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.groove.painted import paint_manner
from cloudrift.loop.model.loop import Loop
from cloudrift.style.groove import usual_manner
from cloudrift.style.manner import find_manner, manners

LED_BY = 3  # manners


def groove_lead(
    session: Session, variation: Callable[[str], object], drawn: Callable[[str, Loop], Loop]
) -> Lead:
    """Return a tile for each of the likeliest manners.

    ``variation`` takes the name of the one that is kept; ``drawn`` returns the loop with it.
    """
    made = Lead(
        "Suggest one from the loop",
        "Drums and a long bass whose hits land on the loop's onsets. Rest on one to hear it; "
        "click it to keep it. Or add a lane, and draw hits in it.",
    )
    first = usual_manner(session.loop)
    for name in (first, *(one for one in manners() if one != first))[:LED_BY]:
        manner = find_manner(name)
        tile = made.add(
            LeadTile(name.capitalize(), manner.about, partial(variation, name),
                     partial(paint_manner, manner))
        )  # fmt: skip
        Trying(tile, session, partial(drawn, name), f"with a {name} groove")
    return made
