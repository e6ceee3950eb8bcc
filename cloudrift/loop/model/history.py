"""History: every document there was, in order, with what made it."""

from dataclasses import dataclass, replace

from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop

MAX_MOMENTS = 500


@dataclass(frozen=True, kw_only=True)
class Moment:
    """A document and the edit that led to it. ``merge`` joins the moments of one drag."""

    document: Document
    label: str
    merge: str = ""

    @property
    def loop(self) -> Loop:
        """The loop as it was."""
        return self.document.loop


@dataclass(frozen=True)
class History:
    """A value itself: moments and where we are among them."""

    moments: tuple[Moment, ...]
    at: int = 0

    @classmethod
    def of(cls, what: Loop | Document, label: str = "opened") -> "History":
        """Start a history."""
        return cls((Moment(document=Document.of(what), label=label),))

    @property
    def moment(self) -> Moment:
        """Where we are."""
        return self.moments[self.at]

    @property
    def now(self) -> Document:
        """The document as it is."""
        return self.moment.document

    @property
    def can_undo(self) -> bool:
        """Whether there is a moment before."""
        return self.at > 0

    @property
    def can_redo(self) -> bool:
        """Whether there is a moment after."""
        return self.at < len(self.moments) - 1

    @property
    def undo_label(self) -> str:
        """What undo would take back."""
        return self.moments[self.at].label if self.can_undo else ""

    @property
    def redo_label(self) -> str:
        """What redo would bring again."""
        return self.moments[self.at + 1].label if self.can_redo else ""

    def then(self, document: Document, label: str, merge: str = "") -> "History":
        """Return the history with an edit after now; what had been undone is dropped.

        An edit with the same non-empty ``merge`` as the last one replaces it, so that a drag is
        one step. An edit that changes nothing is no moment.
        """
        if document == self.now:
            return self
        kept = self.moments[: self.at + 1]
        if merge and kept[-1].merge == merge and len(kept) > 1:
            kept = kept[:-1]
        moments = (*kept, Moment(document=document, label=label, merge=merge))[-MAX_MOMENTS:]
        return History(moments, len(moments) - 1)

    def closed(self) -> "History":
        """Return the history with the current drag ended: the next edit is a step of its own."""
        last = replace(self.moments[self.at], merge="")
        return History((*self.moments[: self.at], last, *self.moments[self.at + 1 :]), self.at)

    def undone(self) -> "History":
        """Step back."""
        return History(self.moments, max(0, self.at - 1))

    def redone(self) -> "History":
        """Step forward."""
        return History(self.moments, min(len(self.moments) - 1, self.at + 1))

    def gone_to(self, at: int) -> "History":
        """Go to any moment; those after it can be had again."""
        return History(self.moments, min(max(at, 0), len(self.moments) - 1))
