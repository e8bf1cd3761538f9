"""A change as one sentence."""

from __future__ import annotations

from datetime import datetime

from hollow_chain.causes.words import span
from hollow_chain.facts.change import Change


def told(change: Change) -> str:
    """What was done, without the moment."""
    by = f" by {change.by}" if change.by else ""
    if change.kind == "package":
        versions = " -> ".join(one for one in (change.before, change.after) if one)
        return f"package {change.what} was {change.did}{f' ({versions})' if versions else ''}"
    if change.kind == "command":
        return f"{change.by or 'somebody'} had done as root: {change.what}"
    if change.kind == "account":
        return f"an account was changed: {change.what}"
    if change.kind == "boot":
        return f"{change.what} was booted"
    if change.did == "failed":
        return f"{change.what} failed"
    values = f": {change.before or 'nothing'} -> {change.after or 'nothing'}" if change.before or change.after else ""
    return f"{change.what} was {change.did}{by}{values}"


def told_before(change: Change, moment: datetime | None, it_did: str) -> str:
    """The same with how long before *moment*, at which *it_did* what it did: ``failed`` or ``stopped``."""
    if moment is None or change.at > moment:
        return told(change)
    return f"{told(change)}, {span((moment - change.at).total_seconds())} before it {it_did}"
