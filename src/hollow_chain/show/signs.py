"""Signs for how a service stands. A sign always goes with a word; colour only repeats what the sign says."""

from __future__ import annotations

from typing import NamedTuple

from hollow_chain.causes import Standing
from hollow_chain.facts.service import Service

ASIDE, CAUTION = "color(31)", "color(130)"
"""What stands aside, and what to take care of: a blue and an orange that can be read on white and on black alike."""


class Sign(NamedTuple):
    """A mark for a link of the chain: for rich encodings, for ASCII, and its colour."""

    mark: str
    plain: str
    style: str


SOLID = Sign("◆", "#", "green")
PENDING = Sign("◈", "~", ASIDE)
RESTING = Sign("·", ".", "dim")
WEAK = Sign("◇", "o", CAUTION)
HOLLOW = Sign("◇", "O", "bold red")
UNTOLD = Sign("?", "?", CAUTION)
DOWN_TO = Sign("└─ ", "`- ", "dim")
"""Leads from a link to the one below it."""
HOLLOW_WORDS = "<== hollow link"

MEANINGS = {
    SOLID: "well",
    PENDING: "waits",
    RESTING: "idle",
    WEAK: "not well",
    HOLLOW: "the hollow link, or down but needed",
    UNTOLD: "not read",
}
"""What each mark stands for."""

BY_TONE = {"well": SOLID, "waits": PENDING, "idle": RESTING, "unwell": WEAK, "cause": HOLLOW}
"""The mark of each tone of a line (``show.sheet``)."""
TONES = {sign: tone for tone, sign in BY_TONE.items()}
_SIGNS = {
    Standing.UP: SOLID,
    Standing.NOT_YET: PENDING,
    Standing.IDLE: RESTING,
    Standing.DOWN: WEAK,
    Standing.UNSTABLE: WEAK,
}
_WORDS = {
    Standing.UP: "well",
    Standing.NOT_YET: "not yet up",
    Standing.IDLE: "idle",
    Standing.DOWN: "NOT WELL",
    Standing.UNSTABLE: "NOT WELL",
}


_WAITS = {
    "timer": "waits for its timer",
    "socket": "waits for its socket",
    "path": "waits for its path",
    "device": "waits for its device",
    "network": "waits for the network",
}


def missed_word(standing: Standing) -> str:
    """The word for one that others need, that is well by itself, and that they do not get."""
    return "needed, does not serve" if standing is Standing.UP else "down, but needed"


def sign_of(standing: Standing) -> Sign:
    """The sign of a standing."""
    return _SIGNS[standing]


def word_of(standing: Standing, service: Service | None = None) -> str:
    """The word that stands beside the sign; of what will start by and by, for what it waits."""
    if standing is not Standing.NOT_YET or service is None:
        return _WORDS[standing]
    if service.state in ("starting", "stopping"):
        return service.state
    if service.startup == "delayed":
        return "starts delayed"
    kinds = {trigger.kind for trigger in service.triggers}
    return _WAITS.get(kinds.pop(), "waits for its event") if len(kinds) == 1 else _WORDS[standing]


_STATE_WORDS = {
    ("target", "running"): "reached",
    ("target", "stopped"): "not reached",
    ("mount", "running"): "mounted",
    ("mount", "stopped"): "not mounted",
    ("device", "running"): "present",
    ("device", "stopped"): "absent",
    ("socket", "running"): "listening",
    ("timer", "running"): "set",
    ("path", "running"): "watching",
}


def state_word(kind: str, state: str) -> str:
    """A state as one would say it of that kind of thing."""
    return _STATE_WORDS.get((kind, state), state)
