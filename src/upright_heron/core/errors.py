"""What can go wrong, as a tree.

HeronError
├── BadFile               a file that cannot become a part
│   ├── EmptyFile
│   ├── NotAMesh          a file of another kind, or nothing that we read
│   ├── TruncatedFile     ends before its own count says so
│   ├── LyingCount        carries more or less than it declares
│   ├── BadCoordinates    NaN or infinite numbers
│   ├── NoExtent          a part without size
│   └── TooLarge          over the limit of this server
├── NotClosed             the computation needs a closed surface
├── BadValue              a number or choice that makes no sense here
└── Cancelled             stopped on request; not a fault

Every error says what happened (``str(error)``) and what to do next (``error.advice``).
"""

from __future__ import annotations


class HeronError(Exception):
    """Root of all expected errors.

    Parameters
    ----------
    message : str
        What happened, to what, as one sentence for a technician.
    advice : str
        What to do next, as one sentence.
    """

    def __init__(self, message: str, advice: str = "") -> None:
        super().__init__(message)
        self.advice = advice

    def __reduce__(self) -> tuple[type[HeronError], tuple[str, str]]:
        # Errors cross from worker processes; the advice has to survive the trip.
        return type(self), (str(self), self.advice)


class BadFile(HeronError):
    """A file that cannot become a part."""


class EmptyFile(BadFile):
    """A file of no bytes, or without one facet."""


class NotAMesh(BadFile):
    """A file whose content is not a mesh that we read."""


class TruncatedFile(BadFile):
    """A file that ends before the count it declares."""


class LyingCount(BadFile):
    """A file that declares another number of facets than it holds."""


class BadCoordinates(BadFile):
    """A file with NaN or infinite coordinates."""


class NoExtent(BadFile):
    """A part with no size in at least two directions."""


class TooLarge(BadFile):
    """A file over the size limit."""


class NotClosed(HeronError):
    """The computation needs a closed surface and this part is open."""


class BadValue(HeronError):
    """A number or a choice that makes no sense here."""


class Cancelled(HeronError):
    """The work was stopped on request."""

    def __init__(self, message: str = "Stopped.", advice: str = "") -> None:
        super().__init__(message, advice)
