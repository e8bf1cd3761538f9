"""What a rule gets to see: one node, with everything about its host at hand."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Literal, Protocol

import msgspec

from hollow_chain.causes.finding import DOUBT, FITS, HINT, PROOF, SAID, TELLS, Evidence
from hollow_chain.causes.good_runs import plain, said_when_well
from hollow_chain.causes.host_index import HostIndex
from hollow_chain.causes.nature import When
from hollow_chain.causes.standing import Standing, failed_last, skipped, standing
from hollow_chain.causes.tries import since_stop, tries_begun, with_the_try_before
from hollow_chain.chain.graph import Graph, Node
from hollow_chain.facts.host import TOLD, Event, File, Host, HostAccount
from hollow_chain.facts.service import Service, has_its_tasks, is_deserted
from hollow_chain.families import Family
from hollow_chain.families.messages import STARTED, STARTING, STOPPING
from hollow_chain.families.times import ENDED_AT_ONCE
from hollow_chain.wording.forms import says
from hollow_chain.wording.last_words import final
from hollow_chain.wording.observed import SURE
from hollow_chain.wording.settled import does_without, of_steps_before, outlived, unsettled

MANAGER = "service manager"
FILES = "file system"
ACCOUNTS = "accounts"
SOCKETS = "socket table"
_BOOT_SLACK = timedelta(seconds=60)
"""The moment of a boot is told by the clock as it was then; what a network clock has set right since is seldom more."""
_TRIES_OF_A_SERIES = 3
"""Starts of a series of restarts whose words are heard: the first one often says more than the ones after it, which fail over its
leftovers."""
_AT_MOST: dict[str, dict[str, str]] = {
    "own": {PROOF: SAID},
    "told": {PROOF: HINT, SAID: HINT, FITS: HINT, DOUBT: TELLS},
}
"""What a record is worth at most by who could have written it: a service's own words say something, and prove nothing; those of
others suggest, and speak against nothing."""
UNIT_TRIGGERS = ("socket", "timer", "path", "automount")


class Learned(Protocol):
    """What was learned from cases."""

    def prior_of(self, cause: str) -> float:
        """How usual a cause is."""

    def told(self, cause: str) -> str:
        """What the cases say of it, in words; empty where that makes no difference."""


class Facts:
    """The graph with an index for each host: what the walk down the chain carries along."""

    def __init__(self, graph: Graph) -> None:
        self.graph = graph
        self.indexes: dict[str, HostIndex] = {}
        """The look-ups of each host that was asked for so far."""
        self._standings: dict[int, Standing] = {}
        self.troubled: frozenset[tuple[str, str]] | None = None
        """Where the whole of the facts has been looked through: all nodes that are not well or stand on one that is
        not. None: not looked through, so that any node may be."""
        self.asked: tuple[str, str] = ("", "")
        self.says = ""
        """What the user saw, and of which node."""
        self.learned: Learned | None = None
        """What confirmed cases say of how usual each cause is. None: nothing, the documented numbers hold."""
        self._memories: dict[object, dict[object, object]] = {}

    @property
    def memory(self) -> dict[object, object]:
        """What the walks have found so far, by what it is about; the facts do not change under them.

        What a user saw is evidence, and where all is looked through less has to be followed: what is found under one of these is
        not what is found without.
        """
        about = self.says, self.asked if self.says else None, self.troubled is not None
        return self._memories.setdefault(about, {})

    def index(self, host: str) -> HostIndex:
        """The look-ups of the host of that name."""
        found = self.indexes.get(host)
        if found is None:
            found = self.indexes[host] = HostIndex(self.graph.hosts.get(host) or Host(name=host))
        return found

    def standing(self, node: Node) -> Standing:
        """How *node* stands by itself; a name that nothing is registered under is down."""
        if node.service is None:
            return Standing.DOWN
        key = id(node.service)
        found = self._standings.get(key)
        if found is None:
            found = standing(node.service, self.graph.hosts[node.host], self.index(node.host).up_targets)
            if found is Standing.DOWN and self._idles_behind_socket(node):
                found = Standing.NOT_YET
            self._standings[key] = found
        return found

    def _idles_behind_socket(self, node: Node) -> bool:
        """Whether a service that ended well, or was stopped, will be started by the next that comes to its socket, which waits
        (systemd.socket(5)): whatever else is to start it, nobody who needs it goes without."""
        service = node.service
        if service is None or service.state != "stopped" or service.job is not None or failed_last(service):
            return False
        if service.definition is not None and service.definition.load != "loaded":
            return False
        units = (self.graph.node(node.host, t.name).service for t in service.triggers if t.kind == "socket")
        return any(unit is not None and unit.state == "running" for unit in units)

    def silent_triggers(self, node: Node) -> list[Node]:
        """The units that should start *node* on their event, where none of them can: all are down or not started.

        A trigger that only others need, or that was rightly passed over, is no obstacle: the host does without.
        """
        service = node.service
        if service is None or service.startup != "event" or self.standing(node) is not Standing.NOT_YET:
            return []
        units = [self.graph.node(node.host, t.name) for t in service.triggers if t.kind in UNIT_TRIGGERS]
        if len(units) < len(service.triggers) or any(not self._is_silent(unit) for unit in units):
            return []
        return units

    def _is_silent(self, unit: Node) -> bool:
        if unit.service is None or not self.standing(unit).well:
            return True
        return self.standing(unit) is Standing.IDLE and unit.service.startup in ("manual", "disabled")


_TELLS_WHEN_UP = ("forking", "notify", "notify-reload", "dbus")
"""Start types with which a service is up only once its program says so (systemd.service(5), "Type=")."""
_CLAIMS = (PROOF, SAID, FITS)
_FOR_LONG = timedelta(minutes=5)
"""How long after its last word about something a program may take to end for that: what closes files, waits for its clients and tries again is
done by then."""


_IS_DOWN = When.DOWN | When.STALE  # joined once: each node asks


class Case(msgspec.Struct, frozen=True):
    """One node under examination.

    ``asked`` is true for the service that the user asked about; ``needed_from`` is the node above it on the way
    down, where there is one.
    """

    facts: Facts
    node: Node
    asked: bool = False
    needed_from: Node | None = None

    @property
    def graph(self) -> Graph:
        """The whole graph."""
        return self.facts.graph

    @property
    def index(self) -> HostIndex:
        """The look-ups of the node's host."""
        host = self.node.host  # asked for more often than anything else
        return self.facts.indexes.get(host) or self.facts.index(host)

    @property
    def host(self) -> Host:
        """The node's host."""
        return self.index.host

    @property
    def service(self) -> Service:
        """The node's service. Raises :class:`LookupError` where none is registered; see :attr:`registered`."""
        if self.node.service is None:
            raise LookupError(self.node.name)
        return self.node.service

    @property
    def family(self) -> Family:
        """The family of the host's manager."""
        return self.index.family

    @property
    def registered(self) -> bool:
        """Whether a service is registered under the node's name."""
        return self.node.service is not None

    @property
    def standing(self) -> Standing:
        """How the node stands by itself; of the one that was asked about, an end by itself right after its start is one of its own."""
        found = self.facts.standing(self.node)
        return Standing.DOWN if self.asked and found is Standing.IDLE and self._ended_at_once() else found

    def _ended_at_once(self) -> bool:
        """Whether the program of a service that is meant to stay ended by itself within moments, though without an error."""
        service, last = self.service, self.service.last
        style = service.program.style if service.program is not None else "oneshot"
        if (
            last is None
            or skipped(service)  # since
            or service.state != "stopped"
            or style in ("oneshot", "")
            or last.started_at is None
            or last.ended_at is None
        ):
            return False
        if not 0 <= (last.ended_at - last.started_at).total_seconds() < ENDED_AT_ONCE or last.signal is not None:
            return False
        told = [e.code for e in self.events() if e.code in (STOPPING, STARTING, STARTED)]
        return bool(told) and told[-1] != STOPPING

    @property
    def state(self) -> str:
        """The state of the node's service as it is for the rules; ``absent`` where none is registered. What counts as up and has no
        process left has failed; what is up for a moment, between two ends, is starting."""
        service = self.node.service
        if service is None:
            return "absent"
        if is_deserted(service):
            return "failed"
        # One that is restarted again and again gets one answer, at whatever moment of that it is looked at.
        restarts = service.last.restarts if service.last is not None and service.state in ("running", "stopped") else 0
        return "starting" if restarts and self.standing is Standing.UNSTABLE else service.state

    @property
    def was_seen_not_to_come_up(self) -> bool:
        """Whether its start was watched for as long as it may take, and it was not up then: it will fail, by its limit."""
        watched = self.host.observed
        return watched is not None and any(one.service == self.node.name and one.outcome == "not-up" for one in watched)

    @property
    def true(self) -> When:
        """What rules ask of a node, as far as it is true of this one."""
        service, standing = self.node.service, self.standing
        true = When.ANY if standing is Standing.UP else _IS_DOWN
        if service is not None and service.last is not None and service.last.reload_result:
            true |= When.STALE
        if not standing.well:
            true |= When.UNWELL | When.STRAINED | When.REFUSED
            if service is not None and (failed_last(service) or self.was_seen_not_to_come_up):
                true |= When.FAILED | When.SPOKE if self.own_events() else When.FAILED
        elif self.asked and any(says(event.text, "denied") for event in self.own_events()):
            true |= When.REFUSED
        if service is not None and service.usage is not None and has_its_tasks(service):
            true |= When.STRAINED
        return true | When.LICENSED if self.node.name in self.index.license_servers and service is not None else true

    def file(self, path: str) -> File | None:
        """What was seen at *path*; None where nobody looked."""
        return self.index.file(path)

    def events(self) -> list[Event]:
        """The records about the service, oldest first."""
        return self.index.events.get(self.node.name, [])

    def last_events(self) -> list[Event]:
        """The records since the last start was tried; all where that moment is not known. Where the service is
        restarted again and again, those since the first start of that series: the run that is under way has not said
        yet why it will end, and a run before the series ended for a reason of its own. Nearly every rule asks: worked out once."""
        found = self.index.since_last_start.get(self.node.name)
        if found is None:
            found = self._since_last_start()
            found = found if self.facts.standing(self.node) is Standing.UP else unsettled(found)
            self.index.since_last_start[self.node.name] = found
        return found

    def _since_last_start(self) -> list[Event]:
        boot = self.host.boot_at
        # What was said in earlier boots explains nothing of this one.
        events = [e for e in self.events() if boot is None or e.at >= boot - _BOOT_SLACK]
        if self.node.service is None or self.node.service.last is None:
            return events
        begun = self._last_start(events)
        if begun is None:
            return events
        by_the_clock = begun - timedelta(seconds=0.02 if any(event.code for event in events) else 1.0)
        # The manager tells of a start when the program runs already, and on a busy host its record may come long after the first words.
        last = self.node.service.last
        if last.started_at is not None and last.result != "resources":
            by_the_clock = min(by_the_clock, last.started_at)
        # What stands before a record of the manager's that is older than the start was said in the run before it.
        older = [e.at for e in events if e.by_manager and e.code and by_the_clock < e.at < begun]
        by_the_clock = max(older, default=by_the_clock)
        # A log file tells whole seconds only.
        by_the_second = min(by_the_clock, begun.replace(microsecond=0))
        # What was seen of a start that was watched holds for the tries that have come after it by themselves, too.
        since = [e for e in events if e.call or e.at >= (by_the_clock if e.at.microsecond else by_the_second)]
        if since and self.service.state == "failed" and not any(not e.by_manager for e in since):
            return with_the_try_before(events, since) or since
        return since or events

    def _last_start(self, events: list[Event]) -> datetime | None:
        """When the last try began: at the manager's record of it, which comes before any step, else at the program's start."""
        recorded = tries_begun(events)
        last = self.service.last
        started = last.started_at if last else None
        if last is not None and last.result == "resources" and last.ended_at is not None:
            return last.ended_at  # the manager failed before any program: what stands here is of the run before
        if (
            last is not None and self.facts.standing(self.node) is Standing.UNSTABLE
        ):  # the start by hand, and each that was repeated
            series = since_stop(events, recorded)
            return series[-min(last.restarts + 1, len(series))] if series else None
        if recorded and last is not None and self.service.state == "failed" and last.restarts > 1:
            # The tries of one series fail for one reason, and of a short one the words may have been lost.
            return recorded[-min(last.restarts, _TRIES_OF_A_SERIES, len(recorded))]
        return recorded[-1] if recorded else started

    def told_events(self) -> list[Event]:
        """The records of the last try; of one that is not well, without what the program says in good starts too. Worked out once."""
        found = self.index.told.get(self.node.name)
        if found is None:
            found = self.last_events()
            harmless = said_when_well(self.events()) if not self.standing.well else ()
            if harmless:
                found = [event for event in found if event.by_manager or plain(event.text) not in harmless]
            self.index.told[self.node.name] = found
        return found

    def own_events(self) -> list[Event]:
        """Those of :meth:`told_events` that the program itself wrote. Worked out once."""
        found = self.index.own.get(self.node.name)
        if found is None:
            found = self.index.own[self.node.name] = [event for event in self.told_events() if not event.by_manager]
        return found

    def final_events(self) -> list[Event]:
        """The one of these that the run ended with (see :func:`~hollow_chain.wording.last_words.final`). Worked out once."""
        found = self.index.final.get(self.node.name)
        if found is None:
            found = self.index.final[self.node.name] = final(self.own_events())
        return found

    @property
    def gave_up_speaking(self) -> bool:
        """Whether the manager tried it several times and gave up, and the program said something in the last try."""
        last = self.service.last
        return self.service.state == "failed" and last is not None and last.restarts > 1 and bool(self.own_events())

    def account(self, name: str, kind: str = "user") -> HostAccount | None:
        """What is known of an account; None where nobody looked."""
        return self.index.accounts.get((kind, name))

    def seen(self, fact: str, source: str = MANAGER, at: datetime | None = None, bears: str = TELLS) -> Evidence:
        """Evidence that was read from the host, as old as the reading where no other moment is given."""
        return Evidence(fact, source, at or self.host.read_at, bears)

    def quoted(self, event: Event, bears: str = TELLS) -> Evidence:
        """A record as evidence, in its own words: what could be forged bears on a claim only so far (:data:`_AT_MOST`)."""
        if event.call is not None:
            # The kernel has said so to us, and not a program: nobody can forge it, and what stood alone in the way is proven by it.
            bears = bears if bears not in (SAID, FITS) else PROOF if event.call.weight >= SURE else HINT
            return Evidence(event.text[:300], event.source, event.at, bears)
        if bears in _CLAIMS and (self.went_on_after(event) or does_without(event.text) or self._came_before(event)):
            bears = HINT
        words = f"\u201c{event.text[:300]}\u201d"
        bears = _AT_MOST.get(event.trust, {}).get(bears, bears)
        return Evidence(words, event.source or "event log", event.at, bears, event.trust in TOLD, not event.by_manager)

    def outlived(self, event: Event) -> Literal["another", "further"] | None:
        """How the last run went on after this line (see :func:`~hollow_chain.wording.settled.outlived`). Worked out once."""
        found = self.index.outlived.get(self.node.name)
        if found is None:
            found = self.index.outlived[self.node.name] = outlived(self.own_events())
        return found.get(id(event))

    def _came_before(self, event: Event) -> bool:
        """Whether a step before the main program said this, which is then not what that one ended over. Worked out once."""
        last, program = self.service.last, self.service.program
        if event.by_manager or last is None or last.step or last.started_at is None or program is None:
            return False
        main = f"journal ({program.path.rpartition('/')[2]})"
        if event.source == main or not event.source.startswith("journal ("):
            return False
        found = self.index.before_main.get(self.node.name)
        if found is None:
            begun = [event.at for event in self.last_events() if event.code == STARTING]
            found = of_steps_before(self.own_events(), main, begun[-1], last.started_at) if begun else set()
            self.index.before_main[self.node.name] = found
        return id(event) in found

    def went_on_after(self, event: Event) -> bool:
        """Whether the program said this while it was up, and went on for long: it did not end for that. Words about what runs out while a
        program runs are then no claim at all; others may still bar its next start."""
        last = self.service.last
        if event.by_manager or event.call is not None or last is None or last.up_at is None:
            return False
        if event.at <= last.up_at:  # who tells when it is up has come up after it had said this
            style = self.service.program.style if self.service.program is not None else ""
            return style in _TELLS_WHEN_UP and last.started_at is not None and last.started_at <= event.at < last.up_at
        end = last.left_up_at or last.ended_at
        return end is not None and end > last.up_at and end - event.at > _FOR_LONG

    def siblings(self) -> Iterator[Service]:
        """Other instances of the same template, on the same host."""
        template = self.service.template_of
        if template:
            for other in self.host.services:
                if other.template_of == template and other.name != self.node.name:
                    yield other
