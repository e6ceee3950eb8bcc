"""Words for what went wrong."""

import logging

from cloudrift.ground.errors import CloudriftError, in_a_sentence

log = logging.getLogger(__name__)


def error_words(error: Exception, what: str = "the loop could not be rendered") -> str:
    """Say in a sentence what went wrong; a fault that is not the composer's is logged too."""
    if isinstance(error, CloudriftError):
        return in_a_sentence(str(error))
    log.error("%s", what, exc_info=error)
    return in_a_sentence(f"{what} ({error}); undo the last step and go on")
