"""What a plan is made of. Plain data: made by ``planning``, judged by ``proving``, carried out by ``carrying``."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from hollow_chain.causes.acts import Act
from hollow_chain.chain import Node

AT_ONCE, AFTER_RELOAD, AFTER_RESTART, AFTER_REBOOT = "at once", "after reload", "after restart", "after reboot"

SIMULATED, ASSUMED, NOT_KNOWN = "simulated", "assumed", "not known"
"""Kinds of proof, of a step and of a whole: the rules of starting carry it; it holds if what is assumed is so; nothing here can tell
whether the program then starts. The whole is of the weakest kind of its steps."""

Answer = tuple[str, str, str]
"""What a step is a mend of: cause, host and service of a finding."""


@dataclass(frozen=True)
class Step:
    """One step: what is done, to what, and everything that one has to know before it is done."""

    host: str
    does: str
    act: Act | None = None
    """What a machine does. None: the step is for a person."""
    old: str = ""
    new: str = ""
    effect: str = AT_ONCE
    also_touches: tuple[str, ...] = ()
    interrupts: tuple[str, ...] = ()
    """Services that run now and will not while the step is carried out, or from then on."""
    undo: str = ""
    answers: tuple[Answer, ...] = ()
    choice: str = ""
    """A service that has to give way, which somebody has to agree to first."""
    cost: float = 0.0
    """What it costs, in minutes of somebody's time: of who does it, or of those whom it interrupts."""
    means: tuple[Act, ...] = ()
    """Of a step for a person: what will have been done, as far as a rehearsal sees it."""
    seeks: bool = False
    """Of a step for a person: whether it says what to look for, and not what to do."""
    because: str = ""
    """Why just this value, where that is not plain."""

    @property
    def acts(self) -> tuple[Act, ...]:
        """What is done by it, whoever does it, as far as a rehearsal sees it."""
        return self.means if self.act is None else (self.act,)

    @property
    def by_person(self) -> bool:
        """Whether a machine must not, or cannot, do it alone."""
        return self.act is None or bool(self.choice)


@dataclass(frozen=True)
class Proof:
    """What carrying out the steps on a copy of the facts has shown."""

    sufficient: bool
    minimal: bool
    harmless: bool
    up_now: float
    up_after_reboot: float | None
    """None: the target does not start with the boot, and is not to."""
    lacks: tuple[str, ...] = ()
    """What is still missing."""
    harms: tuple[str, ...] = ()
    needless: tuple[int, ...] = ()
    """Places of steps that can be left out."""
    assumed: tuple[str, ...] = ()
    """Steps for a person, which are taken to be done or agreed to."""
    gives_way: tuple[str, ...] = ()
    """What somebody agreed, or has to agree, to do without, and what ends with it: not counted as harm."""
    runs: int = 0
    seed: int = 1
    kinds: tuple[str, ...] = ()
    """What each step is proven by."""
    assumptions: tuple[str, ...] = ()
    """What has to be so beside that, in words."""
    unknown: tuple[str, ...] = ()
    """What nothing here can tell, in words."""
    up_after_reboot_before: float | None = None
    """The chance that the target is up after a reboot, as it stands without the steps."""

    @property
    def kind(self) -> str:
        """What the whole is proven by: the weakest of all that it rests on."""
        if self.unknown or NOT_KNOWN in self.kinds:
            return NOT_KNOWN
        return ASSUMED if self.assumptions or ASSUMED in self.kinds else SIMULATED

    @property
    def up(self) -> float:
        """The chance that the target is up now and after a reboot."""
        return self.up_now if self.up_after_reboot is None else min(self.up_now, self.up_after_reboot)

    @property
    def holds(self) -> bool:
        """Whether the steps may be offered as a mend."""
        return self.sufficient and self.minimal and self.harmless


@dataclass
class Try:
    """Steps that mend the target if what is wrong is what they answer."""

    steps: list[Step]
    causes: tuple[Answer, ...]
    probability: float
    """That this is what is wrong."""
    look: str = ""
    """What to look at afterwards."""
    hints: tuple[str, ...] = ()
    """Other ways, and what else a person should see to."""
    proof: Proof | None = None

    @property
    def cost(self) -> float:
        """What it costs, in minutes."""
        return sum(step.cost for step in self.steps)

    @property
    def stops(self) -> tuple[str, ...]:
        """What runs and is needed, and ends by it."""
        return tuple(
            dict.fromkeys(
                name
                for step in self.steps
                if step.choice and all(act.verb != "reboot" for act in step.acts)  # what a boot ends, it starts again
                for name in step.interrupts
            )
        )

    @property
    def for_machine(self) -> bool:
        """Whether a machine can carry it out alone."""
        return not any(step.by_person for step in self.steps)


@dataclass
class Plan:
    """All that is to be done for one target: one try where the cause is clear, a sequence of them where it is not."""

    target: Node
    read_at: datetime | None
    tries: list[Try] = field(default_factory=list)
    now_only: bool = False
    given_up: tuple[str, ...] = ()
    does: str = ""
    """What it does to its target, where that is no mend: ``register``, ``edit`` or ``unregister``."""
    ports: tuple[int, ...] = ()
    """Ports that the target has to hold afterwards, beside those that its configuration claims."""

    @property
    def offered(self) -> bool:
        """Whether there is something to do, and each try of it has held in rehearsal."""
        return bool(self.tries) and all(one.proof is not None and one.proof.holds for one in self.tries)
