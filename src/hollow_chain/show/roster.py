"""The roster for a person: what is not well first, then what comes up and what runs; what only lies ready is counted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import NamedTuple

from hollow_chain.causes import Standing
from hollow_chain.causes.words import span
from hollow_chain.chain import Match
from hollow_chain.chain.find import DESCRIBED, DISPLAY, NEAR, PART, PORT, PROGRAM, START
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families.base_system import is_of_manager
from hollow_chain.show.clean import clean
from hollow_chain.show.own_words import OWN_WORDED, startup_words
from hollow_chain.show.page import Page, age
from hollow_chain.show.roll import Roll
from hollow_chain.show.signs import state_word
from hollow_chain.wording.counts import counted, plural

_NAME = 44
_WIDEST_NAME = 28
"""Characters of a name, and of one on a terminal of the usual width: the title needs the rest."""
_USUAL_WIDTH = 80
_TITLE = 24
"""Characters that a title keeps before another column is shown."""
_ORDER = (Standing.DOWN, Standing.UNSTABLE, Standing.NOT_YET, Standing.UP, Standing.IDLE)


class RosterWish(NamedTuple):
    """What of the roster is wanted."""

    words: str = ""
    everything: bool = False


class _Held(NamedTuple):
    """What the services of a host have."""

    host: Host
    ports: dict[str, set[int]]
    processes: dict[str, int]

    @classmethod
    def on(cls, host: Host) -> _Held:
        """Gather it in one go."""
        held = cls(host, {}, {})
        for process in host.processes:
            held.processes.setdefault(process.service, process.process)
        for one in host.listeners:
            held.ports.setdefault(one.service, set()).add(one.port)
            if one.process:
                held.processes.setdefault(one.service, one.process)
        return held


_Text = Callable[[Service, _Held], str]


def _since(service: Service, held: _Held) -> str:
    last, read_at = service.last, held.host.read_at
    if last is None or read_at is None:
        return ""
    runs = service.state in ("running", "done")
    moment = (last.up_at or last.started_at) if runs else (last.ended_at or last.left_up_at)
    return f"for {span((read_at - moment).total_seconds())}" if moment is not None and moment <= read_at else ""


def _ports(service: Service, held: _Held) -> str:
    ports = sorted(held.ports.get(service.name, set()))
    return f"{plural(len(ports), 'port')} {', '.join(map(str, ports))}" if ports else ""


def _account(service: Service, _: _Held) -> str:
    return service.account.user if service.account is not None else ""


def _process(service: Service, held: _Held) -> str:
    number = held.processes.get(service.name)
    return f"process {number}" if number else ""


_COLUMNS = ((12, _since), (18, _ports), (15, _account), (17, _process))
"""What a wide terminal has room for, with its greatest width, in the order in which it is worth that."""


def show_roster(page: Page, roll: Roll, matches: list[Match], wish: RosterWish) -> None:
    """Write the matches, host by host, and what they amount to."""
    words = wish.words
    if not matches:
        page.line(f"No service fits {clean(words)!r}." if words else "No services.")
        return
    if words and matches[0].rank == NEAR:
        page.line(f"No service fits {clean(words)!r}. The nearest names:")
    folds = not words and not wish.everything
    for host in dict.fromkeys(m.node.host for m in matches):
        page.line((clean(host, 80), "bold"), (f"  {age(roll.facts.graph.hosts[host].read_at)}", "dim"))
        mine = [m for m in matches if m.node.host == host]
        if folds:
            mine = [m for m in mine if not _is_folded(roll, m)]
        if not words:
            mine.sort(key=lambda match: (_ORDER.index(roll.standing(match.node)), *_place(match)))
        _Table(page, roll, mine, words).show()
    _sum_up(page, roll, matches, folds)
    page.legend()


def _place(match: Match) -> tuple[bool, str]:
    """What the manager brings along itself comes after what people have installed; both by name."""
    name = match.node.name
    return is_of_manager(name), name.lower()


def _is_folded(roll: Roll, match: Match) -> bool:
    """Whether it only lies ready, or waits for an event that may never come."""
    standing, service = roll.standing(match.node), match.node.service
    waits = service is not None and service.state == "stopped" and service.startup == "event"
    return standing is Standing.IDLE or (standing is Standing.NOT_YET and waits)


def _sum_up(page: Page, roll: Roll, matches: list[Match], folds: bool) -> None:
    counts = Counter(roll.standing(match.node) for match in matches)
    unwell = counts[Standing.DOWN] + counts[Standing.UNSTABLE]
    page.gap()
    idle = counts[Standing.IDLE]
    waits = sum(_is_folded(roll, match) for match in matches) - idle
    hidden = " (not shown: --all)" if folds and idle + waits else ""
    parts = (
        f"{counts[Standing.NOT_YET] - waits} not yet up",
        f"{counts[Standing.UP]} well",
        f"{waits} {'waits for its event' if waits == 1 else 'wait for their event'}",
        f"{idle} idle",
    )
    page.line(
        f"{counted(len(matches), 'service')}: ",
        (f"{unwell or 'none'} not well", "bold red" if unwell else ""),
        "".join(f", {part}" for part in parts if not part.startswith("0 ")) + hidden,
        hang=2,
    )


def _state_of(match: Match) -> str:
    service = match.node.service
    return "" if service is None else "template" if service.template else state_word(service.kind, service.state)


def _startup_of(match: Match, host: Host | None) -> str:
    """The startup type; with the manager's own word where *host* is given."""
    service = match.node.service
    if service is None or service.startup == "unknown":
        return ""
    return startup_words(service, host) if host is not None and service.startup in OWN_WORDED else service.startup


class _Table:
    """The services of one host, a line each."""

    def __init__(self, page: Page, roll: Roll, matches: list[Match], words: str) -> None:
        self._page, self._roll, self._matches, self._words = page, roll, matches, words
        widest = _NAME if page.width > _USUAL_WIDTH else _WIDEST_NAME
        self._name = min(widest, max((len(clean(m.node.name, 60)) for m in matches), default=0))
        host = roll.facts.graph.hosts[matches[0].node.host] if matches and page.width > _USUAL_WIDTH else None
        self._said = [(_state_of(m), _startup_of(m, host), roll.word(m.node)) for m in matches]
        self._state, self._startup, self._word = (
            max((len(one[at]) for one in self._said), default=0) for at in range(3)
        )
        room = page.width - self._taken - _TITLE - (20 if words else 0)
        self._held = _Held.on(roll.facts.graph.hosts[matches[0].node.host]) if matches else None
        self._more: list[tuple[int, _Text]] = []
        for most, text in _COLUMNS:
            width = min(most, 2 + max((len(self._cell(match, text)) for match in matches), default=0))
            if 2 < width <= room:
                self._more.append((width, text))
                room -= width

    @property
    def _taken(self) -> int:
        return 4 + self._name + self._state + self._startup + self._word + 4

    def show(self) -> None:
        """Write it."""
        for match, said in zip(self._matches, self._said, strict=True):
            self._row(match, *said)

    def _cell(self, match: Match, text: _Text) -> str:
        service = match.node.service
        return text(service, self._held) if service is not None and self._held is not None else ""

    def _row(self, match: Match, state: str, startup: str, word: str) -> None:
        page, service = self._page, match.node.service
        if service is None:
            return
        well = self._roll.is_well(match.node)
        sign = self._roll.sign(match.node)
        name = clean(match.node.name, 60)
        more = "".join(f"{clean(self._cell(match, text), width - 2):<{width}}" for width, text in self._more)
        title = clean(service.display_name or service.description, 120)
        found = _found_by(match, service, self._words)
        room = page.width - self._taken - len(more) - len(found) - max(0, len(name) - self._name)
        kept = title if len(title) <= room else title[: room - 1] + "\u2026" if room > 12 else ""
        page.line(
            (f"{page.sign(sign)} ", sign.style),
            f"{name:<{self._name}} ",
            f"{state:<{self._state}} {startup:<{self._startup}} ",
            (f"{word:<{self._word}} ", "dim" if well else "bold red"),
            (more, "dim"),
            kept,
            (found, "dim"),
            indent=2,
            hang=4,
        )
        if kept != title and _is_in_title(match, service) and self._words:
            page.line((title, "dim"), indent=6)  # what it was found by has to be seen


def _is_in_title(match: Match, service: Service) -> bool:
    return match.rank == DESCRIBED or (match.rank in (DISPLAY, START, PART) and bool(service.display_name))


def _found_by(match: Match, service: Service, words: str) -> str:
    """By what it was found, with the thing itself where the line does not show it."""
    if not words:
        return ""
    if match.rank == PROGRAM and service.program is not None:
        name = service.program.path.replace("\\", "/").rpartition("/")[2]
        return f"  [{match.reason} {clean(name, 30)}]"
    if match.rank == PORT:
        return f"  [{match.reason} {clean(words, 6)}]"
    return f"  [{match.reason}]"
