"""Durations and moments as somebody types them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hollow_chain.lazy import pattern

_UNITS = {"s": "seconds", "m": "minutes", "min": "minutes", "h": "hours", "d": "days", "w": "weeks"}
_DURATION = pattern(r"(?:\d{1,6}(?:\.\d{1,3})?\s{0,3}(?:s|min|m|h|d|w)\s{0,3}){1,5}\Z")
_PART = pattern(r"(\d{1,6}(?:\.\d{1,3})?)\s{0,3}(s|min|m|h|d|w)")
FORMS = "a time back such as 90m, 2h, 3d or 1h30m, or a moment such as '2026-03-04 06:00'"


def length(text: str) -> float:
    """The seconds that *text* means, such as ``90s`` or ``2min``. Raises :class:`ValueError` where it means none."""
    typed = text.strip().casefold()
    if not _DURATION.match(typed):
        raise ValueError(f"{text!r} is no duration; write 90s, 2min or 1h")
    return sum(timedelta(**{_UNITS[unit]: float(many)}).total_seconds() for many, unit in _PART.findall(typed))


def since(text: str, now: datetime) -> datetime:
    """The moment that *text* means, counted back from *now* or in local time. Raises :class:`ValueError` where it means none."""
    typed = text.strip().casefold()
    if _DURATION.match(typed):
        return now - sum((timedelta(**{_UNITS[unit]: float(many)}) for many, unit in _PART.findall(typed)), timedelta())
    moment = datetime.fromisoformat(text.strip())
    return moment.astimezone(UTC)
