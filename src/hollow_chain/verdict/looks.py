"""Which look or try separates rival causes at the least expected cost.

After Heckerman, Breese and Rommelse, "Decision-theoretic troubleshooting" (Communications of the ACM 38(3), 1995):
acting on causes in the order of probability against cost has an expected cost; a look is worth it where its own cost
plus the expected cost after each of its outcomes is less. The looks and their numbers are data: ``looks.json``.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from pathlib import Path

import msgspec

from hollow_chain import decoding
from hollow_chain.causes import Finding
from hollow_chain.chain import Node

_UNLISTED = 0.5
"""Chance of a "yes" under a cause that a look does not list: it tells nothing about it."""
Belief = dict[str, float]


class NextLook(msgspec.Struct, frozen=True):
    """The look that would tell more, why, and what each outcome would mean."""

    does: str
    why: str
    outcomes: tuple[str, ...] = ()
    minutes: float = 0.0
    """What it costs, work and disruption together."""


class KnownLook(msgspec.Struct):
    """One look or try of the data file."""

    does: str
    minutes: float
    disruption: float
    yes: str
    no: str
    chance: dict[str, float]
    unread: bool = False
    """Of use only where records could not be read."""
    holder: bool = False
    """Of use only where something in the way is known."""

    @property
    def cost(self) -> float:
        """Minutes of work and of disruption."""
        return self.minutes + self.disruption


class ObservingLook(msgspec.Struct):
    """The look of :mod:`hollow_chain.observing`, of the data file."""

    does: str
    does_attached: str
    """The same of one that is started again by itself."""
    minutes: float
    disruption: float
    settles: float
    """How often it names the reason, whatever it is."""
    because: str

    @property
    def cost(self) -> float:
        """Minutes of work and of disruption."""
        return self.minutes + self.disruption


class Looks(msgspec.Struct):
    """The data file."""

    about: str
    mend_minutes: float
    give_up_minutes: float
    looks: list[KnownLook]
    observing: ObservingLook


@cache
def known_looks() -> Looks:
    """The looks that ship with the program."""
    return decoding.of_json(Path(__file__).with_name("looks.json").read_bytes(), Looks)


def best_look(
    place: Node, rivals: Sequence[tuple[Finding, float]], unread: bool, observing: str = "", restarts: bool = False
) -> NextLook | None:
    """The look or try that is expected to cost least until the right one of *rivals* on *place* is found; *observing*: what a start that
    is watched takes along, in words, where one can be.

    *restarts*: it is started again by itself, so that nobody has to.

    None where there is only one, or where no look tells them apart more cheaply than acting on them in turn would.
    """
    if len(rivals) < 2:
        return None
    belief = _shares(rivals)
    holder = next((finding.holder for finding, _ in rivals if finding.holder), "")
    usable = [
        look
        for look in known_looks().looks
        if not (restarts and look is known_looks().looks[0])
        and (unread or not look.unread)
        and (holder or not look.holder)
        and _tells(look, belief)
    ]
    watched = _watching(belief)
    if observing and watched < min([expected_cost(belief), *(look.cost + _after(look, belief) for look in usable)]):
        return observe_once(place, observing, _named(belief), expected_cost(belief) - watched, restarts)
    if not usable:
        return None
    look = min(usable, key=lambda look: look.cost + _after(look, belief))
    saved = expected_cost(belief) - look.cost - _after(look, belief)
    if saved <= 0:
        first = max(rivals, key=lambda rival: rival[1])[0]
        return NextLook(
            f"Try first: {first.mends[0].does}" if first.mends else f"Act on {first.cause} first.",
            "Acting on the likeliest cause costs less than any look that would tell it from the others.",
            (f"If that helps: {first.cause}.", f"If not: {', '.join(f.cause for f, _ in rivals[1:3])}."),
            known_looks().mend_minutes,
        )
    words = {"service": place.name, "host": place.host, "holder": holder, "log": _log(place)}
    yes, no = _split(look, belief)
    return NextLook(
        look.does.format(**words),
        f"It tells {_named(belief)} apart; about {look.cost:.0f} min, and saves about {saved:.0f} min on average.",
        (f"If {look.yes.format(**words)}: {_told(yes)}.", f"If {look.no.format(**words)}: {_told(no)}."),
        look.cost,
    )


def _watching(belief: Belief) -> float:
    """Expected minutes where a start is watched: then the right one is acted on, or all in turn."""
    look = known_looks().observing
    return look.cost + look.settles * known_looks().mend_minutes + (1 - look.settles) * expected_cost(belief)


def observe_once(
    place: Node, takes_along: str, rivals: str = "", saved: float = 0.0, restarts: bool = False
) -> NextLook:
    """Watch one start: *takes_along* says what that starts and stops beside it."""
    look = known_looks().observing
    tells = (
        f"It tells {rivals} apart"
        if rivals
        else "What was read shows how it ended, not why; it shows the call that failed"
    )
    saves = f", and saves about {saved:.0f} min on average" if saved >= 1 else ""
    does = look.does_attached if restarts else look.does
    return NextLook(
        does.format(service=place.name),
        f"{tells}; about {look.cost:.0f} min{saves}. {'It starts nothing.' if restarts else takes_along}",
        (
            "If a call fails before it ends: that is the cause, with its path, port or lock.",
            "If none does: its own words, or its settings, are the reason.",
            "If it comes up: something else was in its way when it was tried; look what came up since.",
        ),
        look.cost,
    )


_READ_NEXT = "Read what {service} writes when it is started again, which happens by itself{log}."


def start_and_read(place: Node, restarts: bool = False) -> NextLook:
    """What is left where there is a symptom alone: one more try under observation."""
    look = known_looks().looks[0]
    does = _READ_NEXT if restarts else look.does
    return NextLook(
        does.format(service=place.name, log=_log(place)),
        "What was read shows how it ended, not why.",
        (
            "If it ends again: its last words are the evidence; ask again, with --says and those words.",
            "If it comes up: something else was in its way when it was tried; look what came up since.",
        ),
        look.cost,
    )


def _log(place: Node) -> str:
    program = place.service.program if place.service else None
    return f", in its log and in {program.log_files[0]}" if program and program.log_files else ", in its log"


def _shares(rivals: Sequence[tuple[Finding, float]]) -> Belief:
    """The rivals as the only ones of which one is right, with what is left for none of them under the empty name."""
    odds = {finding.cause: sure / (1 - min(sure, 0.999)) for finding, sure in rivals}
    whole = 1 + sum(odds.values())
    return {**{cause: its / whole for cause, its in odds.items()}, "": 1 / whole}


def _tells(look: KnownLook, belief: Belief) -> bool:
    chances = [look.chance.get(cause, _UNLISTED) for cause, share in belief.items() if cause and share > 0.02]
    return sum(cause in look.chance for cause in belief) >= 2 and max(chances) - min(chances) > 0.3


def expected_cost(belief: Belief) -> float:
    """Expected minutes of acting on the causes in turn, likeliest first, until one helps, or of giving up."""
    each, left, total = known_looks().mend_minutes, 1.0, 0.0
    for share in sorted((share for cause, share in belief.items() if cause), reverse=True):
        total += each * left
        left -= share
    return total + known_looks().give_up_minutes * max(left, 0.0)


def _split(look: KnownLook, belief: Belief) -> tuple[Belief, Belief]:
    """What would be believed after each outcome, not yet brought to a sum of 1."""
    yes = {cause: share * look.chance.get(cause, _UNLISTED) for cause, share in belief.items()}
    return yes, {cause: share - yes[cause] for cause, share in belief.items()}


def _after(look: KnownLook, belief: Belief) -> float:
    total = 0.0
    for part in _split(look, belief):
        weight = sum(part.values())
        if weight > 0:
            # After a telling outcome the likeliest is acted on first, and the unlikely ones are not tried at all.
            after = {cause: share / weight for cause, share in part.items() if not cause or share / weight > 0.05}
            total += weight * expected_cost(after)
    return total


def _named(belief: Belief) -> str:
    return " and ".join(cause for cause in list(belief)[:3] if cause)


def _told(part: Belief) -> str:
    weight = sum(part.values()) or 1.0
    ranked = sorted(((share / weight, cause or "something else") for cause, share in part.items()), reverse=True)
    return ", ".join(f"{cause} ({share:.0%})" for share, cause in ranked[:2])
