"""What all types of the snapshot format are made of."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, ClassVar, TypeVar

import msgspec

from hollow_chain.facts.kinds import KIND, MOMENT

Moment = Annotated[datetime, msgspec.Meta(tz=True, extra={KIND: MOMENT})]
Seconds = Annotated[float, msgspec.Meta(ge=-1, le=1e10)]
Port = Annotated[int, msgspec.Meta(ge=0, le=65535)]
_One = TypeVar("_One")
Listed = Annotated[list[_One], msgspec.Meta(max_length=100_000)]
"""A list within one service or about one matter; far longer than any that was met."""
Long = Annotated[list[_One], msgspec.Meta(max_length=1_000_000)]
"""A list of all of a kind that a host has."""


class Part(msgspec.Struct, kw_only=True, omit_defaults=True):
    """Base of all types in the format: unknown keys are ignored, defaults are not written."""

    happens: ClassVar[bool] = False
    """Whether it tells what happened or how something stands, and not what somebody set."""
