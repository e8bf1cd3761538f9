"""What starts a service, changed: the units of its events are made, changed, and taken off along with its definition."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple

import msgspec

from hollow_chain.boot.making import UP
from hollow_chain.causes import Facts, acts
from hollow_chain.causes.acts import Act
from hollow_chain.chain import Graph
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Definition, Service
from hollow_chain.mend.plan import Step
from hollow_chain.mend.verbs import ActView
from hollow_chain.registering import events, systemd_form
from hollow_chain.registering.events import Starts
from hollow_chain.registering.lines import DefinitionLine, Piece
from hollow_chain.registering.making_steps import step_of
from hollow_chain.registering.systemd_form import BOOT_TARGET, MARK, PLACE, device_unit
from hollow_chain.registering.wish import Wish
from hollow_chain.trouble import wrong_call

ReadText = Callable[[str], "str | None"]
"""The text of a file; None where there is none."""
_WANTED_BY = re.compile(r"(?m)^[ \t]*WantedBy[ \t]*=(.*)$\n?")


class EventChange(NamedTuple):
    """What a change of what starts a service comes to."""

    starts: Starts | None
    """None where nothing is said of it."""
    lines: list[DefinitionLine]
    """For the definition of the service itself."""
    units: list[tuple[Piece, str]]
    """Units that start it from now on, each with the text that is there now."""
    gone: list[tuple[Service, str]]
    """Units of ours that started it until now, each with its text."""

    @property
    def by_boot(self) -> bool:
        """Whether the boot, or a device, starts the service itself."""
        kinds = {event.kind for event in self.starts.events} if self.starts else set()
        return self.starts is not None and (
            self.starts.kind == events.AUTOMATIC or bool(kinds & {events.NETWORK, events.DEVICE})
        )

    @property
    def devices(self) -> list[str]:
        """The units of the devices that start it."""
        found = self.starts.events if self.starts else ()
        return [device_unit(event.what) for event in found if event.kind == events.DEVICE]


def change_of(host: Host, service: Service, given: Wish, read_text: ReadText) -> EventChange:
    """What *given* changes of what starts *service*. Raises :class:`~hollow_chain.trouble.Trouble`."""
    if not given.start:
        return EventChange(None, [], [], [])
    starts = events.starts_of(given.start)
    if starts.kind == events.DELAYED:
        raise wrong_call("start: systemd has no delayed group; write --start 'on time 2min after boot'")
    pieces = systemd_form.event_pieces(starts, service.name)
    for piece in pieces:
        if read_text(piece.path) is None and any(one.name == piece.unit for one in host.services):
            raise wrong_call(f"start: {piece.unit} is there already, and is none of your own in {PLACE}")
    units = [(piece, read_text(piece.path) or "") for piece in pieces]
    for piece, text in units:
        if text and not text.startswith(MARK):
            raise wrong_call(f"start: {piece.path} is there already, and was not made by this tool: change it by hand")
    return EventChange(
        starts,
        list(systemd_form.start_lines(starts)),
        units,
        _gone(host, service, {piece.unit for piece in pieces}, read_text),
    )


def _gone(host: Host, service: Service, kept: set[str], read_text: ReadText) -> list[tuple[Service, str]]:
    stem = service.name.removesuffix(".service")
    own = {f"{stem}.{kind}" for kind in ("socket", "timer", "path")} - kept
    there = [(one, read_text(f"{PLACE}/{one.name}") or "") for one in host.services if one.name in own]
    return [(one, text) for one, text in there if text.startswith(MARK)]


def with_install(text: str, change: EventChange, own: bool, name: str) -> str:
    """*text* of the definition, with what the manager is to hang the service on in place of what it hung on before; the lines are added
    to those of *change*. Raises :class:`~hollow_chain.trouble.Trouble` where a file beside the definition cannot say that."""
    present = [value for found in _WANTED_BY.findall(text) for value in found.split()]
    wanted = change.devices
    if not wanted and change.by_boot and all(one.endswith(".device") for one in present):
        wanted = [BOOT_TARGET]
    if not wanted or wanted == present:
        return text
    if not own:
        if not change.devices:
            return text
        raise wrong_call(
            f"start: {name} is not defined in {PLACE}, and a device starts only what hangs on it by its own definition (systemd.unit(5))"
        )
    change.lines.extend(DefinitionLine("Install", "WantedBy", one, "what is to start it") for one in wanted)
    return _WANTED_BY.sub("", text)


def with_units(facts: Facts, host: Host, change: EventChange) -> Facts:
    """The facts with the units that are to be made as ones that have no definition yet."""
    known = {one.name for one in host.services}
    new = [piece.unit for piece, _ in change.units if piece.unit not in known]
    if not new:
        return facts
    made = [
        Service(name=n, kind=_kind(n), state="stopped", startup="manual", definition=Definition(load="missing"))
        for n in new
    ]
    document = facts.graph.document
    hosts = [
        msgspec.structs.replace(one, services=[*one.services, *made]) if one.name == host.name else one
        for one in document.hosts
    ]
    return Facts(Graph(msgspec.structs.replace(document, hosts=hosts)))


def _kind(unit: str) -> str:
    return unit.rpartition(".")[2]


def steps_before(view: ActView, service: Service, change: EventChange, is_other: bool) -> list[Step]:
    """What has to be let go before the definition is another: the manager forgets what hung on it only by its old text."""
    if change.starts is None:
        return []
    steps: list[Step] = []
    for one, _ in change.gone:
        if one.state in UP:
            steps.append(step_of(view, Act("stop", one.name)))
        if one.startup == "automatic" or one.wanted_by:
            steps.append(step_of(view, acts.startup(one.name, "manual")))
        steps.append(step_of(view, Act("undefine", one.name, f"{PLACE}/{one.name}")))
    hangs_elsewhere = is_other and any(line.part == "Install" for line in change.lines)
    if _hangs(service) and (not change.by_boot or hangs_elsewhere):
        steps.append(step_of(view, acts.startup(service.name, "manual")))
    return steps


def _hangs(service: Service) -> bool:
    return service.startup in ("automatic", "delayed") or any(t.kind == "device" for t in service.triggers)


def steps_after(view: ActView, service: Service, change: EventChange, restart: bool) -> list[Step]:
    """What the new definition is followed by: units made, set to start, and started. A socket is not given to a service that runs
    (systemd.socket(5)): it waits for the restart."""
    if change.starts is None:
        return []
    steps: list[Step] = []
    for piece, before in change.units:
        if piece.text != before:
            steps.append(step_of(view, Act("amend" if before else "define", piece.unit, piece.path, piece.text)))
        known = view.facts.graph.find(view.host.name, piece.unit)
        if known is None or not _hangs(known):
            steps.append(step_of(view, acts.startup(piece.unit, "automatic")))
        runs = service.state in UP and piece.unit.endswith(".socket")
        if runs and restart:
            steps.append(step_of(view, Act("stop", service.name)))
        if (not runs or restart) and (known is None or known.state not in UP):
            steps.append(step_of(view, acts.start(piece.unit)))
    rehang = any(line.part == "Install" for line in change.lines)
    if change.by_boot and (rehang or not _hangs(service)):
        # By then it hangs on nothing any more, whatever it hung on before.
        left = "event" if change.units else "manual"
        steps.append(replace(step_of(view, acts.startup(service.name, "automatic")), old=left))
    return steps
