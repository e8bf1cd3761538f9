"""What a start waited for until its limit, beyond the call that it was seen to hang in: who did not answer it, and whom its command line
asks for."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.causes.case import MANAGER, SOCKETS, Case
from hollow_chain.causes.finding import FITS, HINT, Evidence
from hollow_chain.causes.reached import unanswered
from hollow_chain.causes.standing import Standing
from hollow_chain.causes.time.stuck import in_words, stuck, stuck_in
from hollow_chain.chain.graph import Node
from hollow_chain.facts.endpoints import is_loopback
from hollow_chain.lazy import pattern
from hollow_chain.wording.things import endpoints_of

_NAME = pattern(r"[\w@:.\\\-]{2,250}")
_ASKS = pattern(r"\bis-(?:active|failed|system-running)\b|--?wait\b|\bActiveState\b")
"""How a command line asks the manager about a unit (systemctl(1)): names without an ending are units there."""
_MOST_NAMES = 100
"""Words of a command line that are looked up."""


class Awaited(NamedTuple):
    """What a start waited for, most likely."""

    says: str
    evidence: tuple[Evidence, ...]
    does: str


def awaited(case: Case) -> Awaited | None:
    """What the last start that came to its limit waited for; None where nothing tells."""
    name, wait = case.service.name, stuck_in(case)
    if wait is not None:
        return Awaited(in_words(wait), tuple(stuck(case)), f"See why it waits there; then start {name}.")
    alone = unanswered(case)
    if alone is not None:
        return Awaited(f"meanwhile it {alone.says}", (alone.evidence,), alone.does)
    step = (case.service.last.step if case.service.last is not None else "") or "command line"
    for place in _called_in_vain(case):
        return Awaited(
            f"its {step} asks for {place}, where nothing listens",
            (
                case.seen(f"its {step} names {place}", "definition", bears=FITS),
                case.seen(f"no socket that would answer at {place}", SOCKETS, bears=HINT),
            ),
            f"Start, or put right, what is to listen on {place}; then start {name}.",
        )
    for node in _asked_for(case):
        state = node.service.state if node.service is not None else "not registered"
        return Awaited(
            f"its {step} asks for {node.name}, which is {state}",
            (
                case.seen(f"its {step} names {node.name}", "definition", bears=FITS),
                case.seen(f"{node.name} is {state}", MANAGER, bears=HINT),
            ),
            f"See why {node.name} is not up, and start it; then start {name}.",
        )
    return _of_style(case)


def _of_style(case: Case) -> Awaited | None:
    """What the manager itself waited for, where a program is to go to the background and has not."""
    program, last = case.service.program, case.service.last
    if program is None or program.style != "forking" or last is None or last.step:
        return None
    name = case.service.name
    return Awaited(
        "the manager waits for its first process to end (Type=forking), and it did not",
        (case.seen("Type=forking: it is up once its first process has ended", "definition", bears=HINT),),
        f"See whether the program of {name} stays in the foreground: then another start type fits it (Type=exec), or an option that sends it to "
        f"the background. Else find out what it waits for; its log around the start says it.",
    )


def _asked_for(case: Case) -> Iterator[Node]:
    """Units that the command line names which was running when the limit came, and that are not up."""
    text = _command_line(case)
    by_stem = _ASKS.search(text) is not None
    if not by_stem and not (case.service.last is not None and case.service.last.step):
        return
    for name in list(dict.fromkeys(_NAME.findall(text)))[:_MOST_NAMES]:
        for whole in (name, f"{name}.service") if by_stem else (name,):
            node = case.graph.node(case.node.host, whole)
            is_other = node.service is not None and node.name != case.node.name
            if is_other and case.facts.standing(node) is not Standing.UP:
                yield node


def _called_in_vain(case: Case) -> Iterator[str]:
    """Endpoints of this host that the command line names, and at which nobody listens."""
    last, sockets, text = case.service.last, case.index.sockets, _command_line(case)
    # What the program itself names may be where it is to listen.
    if last is None or not last.step or not sockets.known:
        return
    apart = [(found["host"], int(found["port"])) for found in _APART.finditer(text)]
    for address, port in dict.fromkeys([*endpoints_of(text), *apart]):
        address = case.host.local_names.get(address, address)
        is_own = address == "localhost" or is_loopback(address) or address in case.host.addresses
        if is_own and 0 < port < 65536 and not any(sockets.at(port)):
            yield f"{address}:{port}"


_APART = pattern(
    r"(?<!\S)(?P<host>\d{1,3}(?:\.\d{1,3}){3}|::1|localhost|[A-Za-z][\w.\-]{0,250})[ /](?P<port>\d{2,5})(?![\w.:/])"
)
"""A machine and its port as two words, as commands take them that try whether somebody listens."""


def _command_line(case: Case) -> str:
    """What was running when the limit came."""
    last, program = case.service.last, case.service.program
    words = (
        last.step_arguments if last is not None and last.step else program.arguments if program is not None else None
    )
    return " ".join(words or ())[:_LONGEST]


_LONGEST = 8_000
"""Characters of a command line that are read: a script of more than that is none that one would write into a definition."""
