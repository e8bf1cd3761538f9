"""The one exception that reaches a person: a clear line and an exit status."""

from __future__ import annotations

from collections.abc import Sequence

CALL_IS_WRONG = 2
FACTS_UNREADABLE = 3
MEND_DID_NOT_HOLD = 4
INTERRUPTED = 130
"""Exit statuses, by what went wrong; an interrupted program ends with 128 and the number of the signal, as in a shell."""


class Trouble(Exception):
    """Something the caller has to know: *what* is wrong, *where*, and what to do about it, in one line.

    ``status`` is the exit status of the program: 2 for a wrong call, 3 for facts that could not be read,
    4 for a mend that did not hold.
    """

    def __init__(self, text: str, status: int = FACTS_UNREADABLE, rows: Sequence[str] = ()) -> None:
        """*rows*: what there is to choose from, a line each."""
        super().__init__(text)
        self.status = status
        self.rows = tuple(rows)


class SaidNo(Trouble):
    """Somebody was asked, and said no: nothing was changed, and nothing is wrong with the call."""

    def __init__(self, text: str) -> None:
        super().__init__(f"{text}; nothing was changed", 0)


def wrong_call(text: str) -> Trouble:
    """A :class:`Trouble` for a call that cannot be carried out as given (exit status 2)."""
    return Trouble(text, CALL_IS_WRONG)
