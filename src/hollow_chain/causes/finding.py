"""What a rule finds: a claim with its evidence, and what mends it."""

from __future__ import annotations

from datetime import datetime

import msgspec

from hollow_chain.causes.acts import Act

# How a piece of evidence bears on the claim; what each is worth stands in ``verdict/weights.json``.
PROOF = "proof"
"""A look that could hardly come out so unless the claim were true."""
SAID = "said"
"""The program or the manager says so itself."""
FITS = "fits"
"""What one sees when the claim is true, and seldom otherwise."""
HINT = "hint"
_BEAR_OUT = (PROOF, SAID, FITS)
DOUBT = "doubt"
"""Speaks against the claim."""
TELLS = "tells"
"""Told for the reader; weighs nothing."""

AT_ONCE = "at once"
AFTER_RELOAD = "after a reload of the definitions"
AFTER_RESTART = "after a restart of the service"
AFTER_REBOOT = "after a reboot"
AT_NEXT_START = "at the next start"
AT_NEXT_BOOT = "at the next boot"
EFFECTS: dict[str, str] = {
    AT_ONCE: "at once",
    AFTER_RELOAD: "after reload",
    AFTER_RESTART: "after restart",
    AFTER_REBOOT: "after reboot",
    AT_NEXT_START: "after restart",
    AT_NEXT_BOOT: "after reboot",
    "after a reload": "after reload",
    "after the reload": "after reload",
    "after a reload and a restart": "after reload",
    "after a reload, at the next start": "after reload",
    "after a restart": "after restart",
    "after its restart": "after restart",
    "with the new file": "after restart",
    "with the new file, after a reload": "after reload",
}
"""When a mend takes effect: in the words of a verdict, and the moment that is in those of a plan."""
ENDS = (
    "exits-with-error", "exits-at-once", "crash-loop", "killed", "config-rejected", "start-rate-limited", "lock-held"
)  # fmt: skip
"""Bare ends of a program, which what kept it from its work explains."""


class Evidence(msgspec.Struct, frozen=True):
    """One fact that a claim rests on: what, where it was read, and from when it is."""

    fact: str
    source: str
    at: datetime | None = None
    bears: str = TELLS
    told: bool = False
    """Words that others than root could have written: they suggest, and nothing is changed for them alone."""
    words: bool = False
    """Whether it is a line that a program wrote, and no fact that was looked at."""


class Mend(msgspec.Struct, frozen=True):
    """What to do, in one sentence, and when it takes effect.

    ``acts`` are what a machine can do of it; none where it is for a person.
    """

    does: str
    effect: str = AT_ONCE
    acts: tuple[Act, ...] = ()
    instead: bool = False
    """Whether another way begins here, in the place of the mends before it."""
    only_starts: bool = False
    """Whether it is the mere start that comes after the mend proper."""
    because: str = ""
    """Why just this value, where that is not plain."""
    means: tuple[Act, ...] = ()
    """What a person who follows it has done, as far as a rehearsal sees it. A machine never does that."""
    seeks: bool = False
    """Whether it says what to look for, or to wait for, and not what to do: nothing can tell then what will come of it."""

    def __post_init__(self) -> None:
        if self.effect not in EFFECTS:
            raise ValueError(f"no moment is known for {self.effect!r}")

    @property
    def moment(self) -> str:
        """When it takes effect, in the words of a plan."""
        return EFFECTS[self.effect]

    @property
    def alone(self) -> str:
        """The sentence as it stands without the mends before it."""
        does = self.does.removeprefix("Or ").removeprefix("Otherwise ") if self.instead else self.does
        return does[:1].upper() + does[1:]


class Finding(msgspec.Struct, frozen=True):
    """What a rule found on one node.

    How sure it is follows from its evidence alone (see ``verdict/weigh.py``). A ``note`` is a warning or a
    non-fault. A ``residual`` finding only describes an end without its reason: it gives way to any other cause on
    its node or below it.
    """

    says: str
    evidence: tuple[Evidence, ...]
    mends: tuple[Mend, ...] = ()
    note: bool = False
    residual: bool = False
    holder: str = ""
    loop: tuple[str, ...] = ()
    near: tuple[str, ...] = ()
    """Names that may have been meant."""
    explains: tuple[str, ...] = ()
    """Causes on the same node that this one makes superfluous."""
    cause: str = ""
    host: str = ""
    service: str = ""

    @property
    def is_borne_out(self) -> bool:
        """Whether it rests on anything beside words that could be forged, where it rests on such at all."""
        told = any(piece.told for piece in self.evidence)
        return not told or any(not piece.told and piece.bears in _BEAR_OUT for piece in self.evidence)

    def __post_init__(self) -> None:
        if not self.evidence:
            raise ValueError("a claim without evidence is not made")
