"""That a host was not reached."""

from __future__ import annotations

from hollow_chain.trouble import FACTS_UNREADABLE, Trouble


class Unreached(Trouble):
    """A host that was not reached, or not to the end; the text says why."""

    def __init__(self, text: str, silent: bool = False) -> None:
        """*silent*: nothing of it answered, so that nobody else will reach it either."""
        super().__init__(text, FACTS_UNREADABLE)
        self.silent = silent
