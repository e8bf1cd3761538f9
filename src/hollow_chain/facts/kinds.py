"""Kinds of fields: what somebody set, and what only happened, was measured, or tells one host from another.

Two readings of one host differ in moments, numbers of processes and counts whatever is done to it. Which fields these are, the types say,
so that whoever compares readings needs no list of names: a field without a kind is one that somebody sets.
"""

from __future__ import annotations

from typing import Annotated

import msgspec

KIND = "kind"
"""Key of the kind in the metadata of a type."""
SET = "set"
"""What somebody sets although its type tells otherwise: a moment at which something ends."""
MOMENT, PROCESS, MEASURED, IDENTITY, STATE, LOOKED_UP = (
    "moment",
    "process",
    "measured",
    "identity",
    "state",
    "looked up",
)
"""A moment; a number of a process; what was counted or measured; what is another one on every host; how something stands; what is known
only where somebody looked for it, so that its absence says nothing."""


def of_kind(kind: str) -> msgspec.Meta:
    """Metadata of a field of that kind."""
    return msgspec.Meta(extra={KIND: kind})


ProcessNumber = Annotated[int, of_kind(PROCESS)]
Name = Annotated[str, of_kind(IDENTITY)]
