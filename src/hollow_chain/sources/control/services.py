"""The services of a host: what the manager has loaded, what the registry says, and how they stand."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextlib import suppress
from functools import cached_property

from hollow_chain.facts.host import Unread
from hollow_chain.facts.order_groups import resolve
from hollow_chain.facts.runs import LastRun, Progress
from hollow_chain.facts.service import Account, Definition, Program, Service, State, Trigger
from hollow_chain.reach import control as api
from hollow_chain.reach.control import Declined, Key, ServiceConfig, ServiceStatus
from hollow_chain.sources.control import command_line
from hollow_chain.sources.control.definitions import (
    MOST,
    failure_actions,
    needs_of,
    number_of,
    plain,
    startup_of,
    text_of,
    texts_of,
    trigger_of,
)
from hollow_chain.sources.control.environment import variables
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording.secrets import mask_arguments, mask_text

_STATES: Mapping[int, State] = {
    api.STOPPED: "stopped",
    api.START_PENDING: "starting",
    api.STOP_PENDING: "stopping",
    api.RUNNING: "running",
    api.CONTINUE_PENDING: "starting",
    api.PAUSE_PENDING: "paused",
    api.PAUSED: "paused",
}
_DETAILS = {api.CONTINUE_PENDING: "continuing", api.PAUSE_PENDING: "pausing"}
PENDING = (api.START_PENDING, api.STOP_PENDING, api.CONTINUE_PENDING, api.PAUSE_PENDING)
NEVER_TRIED, OWN_NUMBER = 1077, 1066
"""No start since the boot (``ERROR_SERVICE_NEVER_STARTED``); the program ended with a number of its own
(``ERROR_SERVICE_SPECIFIC_ERROR``)."""
_MOST_UNREAD = 3
"""Definitions that could not be read for one reason and are named one by one."""
_BUILT_IN = {
    "": "LocalSystem",
    "localsystem": "LocalSystem",
    "nt authority\\system": "LocalSystem",
    "localservice": "LocalService",
    "nt authority\\localservice": "LocalService",
    "nt authority\\local service": "LocalService",
    "networkservice": "NetworkService",
    "nt authority\\networkservice": "NetworkService",
    "nt authority\\network service": "NetworkService",
}


def add(reading: HostReading) -> None:
    """All services, and the drivers and members of groups that they need.

    Raises :class:`~hollow_chain.trouble.Trouble` where the manager cannot be asked.
    """
    from hollow_chain.trouble import Trouble

    try:
        statuses = control(reading).database.statuses()
    except Declined as declined:
        raise Trouble(f"the service manager of {reading.host.name} cannot be asked: {declined.strerror}") from None
    reader = _ServiceReader(reading)
    reader.expect(status.name for status in statuses if not status.kind & api.DRIVERS)
    found = [reader.service(status) for status in statuses if not status.kind & api.DRIVERS]
    drivers = [status for status in statuses if status.kind & api.DRIVERS]
    found += reader.needed(found, drivers)
    found += reader.unknown({status.name.casefold() for status in statuses})
    reading.host.services = found
    resolve(reading.host)
    untold = [status.name for status in statuses if status.state not in _STATES]
    if untold:
        more = f" and {len(untold) - 1} more" if len(untold) > 1 else ""
        reading.host.unread.append(
            Unread(what=f"how {untold[0]}{more} stands", why="the service manager does not tell")
        )
    reader.tell_unread()


class _ServiceReader:
    def __init__(self, reading: HostReading) -> None:
        self._reading, self._reached = reading, control(reading)
        self._unread: dict[str, str] = {}
        self._untold: set[str] = set()
        """Keys of the registry that may be there and were not told."""
        self._files: dict[str, bool] = {}

    @cached_property
    def _variables(self) -> dict[str, str]:
        return variables(self._reading)

    @cached_property
    def _root(self) -> str:
        return self._reached.variables().get("SystemRoot", "")

    def expect(self, names: Iterable[str]) -> None:
        """Say that the definitions of these will be looked at."""
        with suppress(Declined):  # which is said of each when it is looked at
            self._reached.registry.expect(rf"{api.SERVICES}\{name}" for name in names)

    def tell_unread(self) -> None:
        """Say what could not be read."""
        by_why: dict[str, list[str]] = {}
        for what, why in self._unread.items():
            by_why.setdefault(why, []).append(what)
        for why, whats in by_why.items():
            named = whats if len(whats) <= _MOST_UNREAD else [f"{whats[0]}, and {len(whats) - 1} others"]
            self._reading.host.unread += [Unread(what=what, why=why) for what in named]

    def service(self, status: ServiceStatus) -> Service:
        """One service that the manager knows."""
        key = self._key(rf"{api.SERVICES}\{status.name}", f"the definition of {status.name} in the registry")
        try:
            config = self._reached.database.config(status.name)
        except Declined as declined:
            if declined.number not in api.NOT_THERE:  # one that was deleted since it was listed is no gap
                self._unread[f"the definition of {status.name} as it is loaded"] = declined.strerror or str(declined)
            config = _of_registry(key, status)
        if not config.needs:
            groups = [f"+{name}" for name in texts_of(key, "DependOnGroup")]
            config = config._replace(needs=[*texts_of(key, "DependOnService"), *groups])
        service = self._defined(status.name, config, key)
        untold = rf"{api.SERVICES}\{status.name}" in self._untold
        if not key.values and not untold and not status.kind & api.DRIVERS:
            service.startup = "on-need"  # nothing defines it: the manager makes it when something wants it
        stands(service, status)
        if status.process and service.program is not None and status.state in (api.RUNNING, api.PAUSED):
            service.program.deserted = not self._reached.processes.runs(status.process)
        return service

    def needed(self, services: list[Service], drivers: list[ServiceStatus]) -> list[Service]:
        """The drivers that services need, by name or by group, and those that these need."""
        by_name = {one.name.casefold(): one for one in drivers}
        groups = {link.to[1:].casefold() for one in services for link in one.links if link.to.startswith("+")}
        found: dict[str, Service] = {}
        wanted = [link.to for one in services for link in one.links]
        if groups:
            self.expect(status.name for status in drivers)
            for status in drivers:
                key = self._key(rf"{api.SERVICES}\{status.name}", "")
                if text_of(key, "Group").casefold() in groups:
                    wanted.append(status.name)
        while wanted:
            name = wanted.pop().casefold()
            if name in by_name and name not in found:
                found[name] = one = self.service(by_name[name])
                one.kind = "driver"
                wanted += [link.to for link in one.links]
        return list(found.values())

    def unknown(self, known: set[str]) -> list[Service]:
        """Services that the registry defines and the manager does not know: it reads definitions when the system boots, and is told
        of others only through its own interface."""
        root = self._key(api.SERVICES, "the list of definitions in the registry")
        found = []
        others = [name for name in root.below if name.casefold() not in known]
        self.expect(others)
        for name in others:
            key = self._key(rf"{api.SERVICES}\{name}", "")
            kind, startup = number_of(key, "Type"), number_of(key, "Start")
            is_service = (
                kind is not None and kind & (api.OWN_PROCESS | api.SHARED_PROCESS) and not kind & api.FOR_A_SESSION
            )
            if not is_service or startup is None or not text_of(key, "ImagePath"):
                continue
            status = ServiceStatus(
                name, text_of(key, "DisplayName"), kind or 0, api.STOPPED, 0, NEVER_TRIED, 0, 0, 0, 0
            )
            service = self._defined(name, _of_registry(key, status), key)
            service.state, service.detail = "stopped", "not known to the manager"
            service.last = LastRun(error_number=NEVER_TRIED)
            if service.definition is not None and not service.definition.being_removed:
                service.definition.load = "not-loaded"
            found.append(service)
        return found

    def _key(self, path: str, what: str) -> Key:
        """A key of the registry; an empty one where it cannot be had, of which *what* tells if that is a gap."""
        try:
            return self._reached.registry.key(path)
        except Declined as declined:
            if declined.number not in api.NOT_THERE:
                self._untold.add(path)
                if what:
                    self._unread[what] = declined.strerror or str(declined)
            return Key({}, [], None)

    def _defined(self, name: str, config: ServiceConfig, key: Key) -> Service:
        triggers = self._triggers(name, key)
        actions, forgotten = failure_actions(key)
        return Service(
            name=plain(name),
            display_name=plain(config.shown_as),
            description=self._description(name, key),
            order_group=plain(config.group),
            startup=startup_of(config.startup, bool(number_of(key, "DelayedAutostart")), triggers),
            links=needs_of(list(dict.fromkeys(map(plain, config.needs)))[:MOST]),
            triggers=triggers,
            definition=self._definition(name, config, key),
            program=self._program(name, config, key),
            account=Account(user=account_name(plain(config.account))),
            failure_actions=actions,
            failures_forgotten_after=forgotten,
            required_rights=texts_of(key, "RequiredPrivileges") or None,
        )

    def _description(self, name: str, key: Key) -> str:
        text = text_of(key, "Description")
        if not text.startswith("@"):
            return text
        try:  # it names a library, in which the text stands
            return plain(self._reached.database.description(name))
        except Declined:
            return text

    def _triggers(self, name: str, key: Key) -> list[Trigger]:
        if not any(below.lower() == "triggerinfo" for below in key.below):
            return []
        root = rf"{api.SERVICES}\{name}\TriggerInfo"
        keys = (self._key(rf"{root}\{below}", "") for below in self._key(root, "").below[:MOST])
        found = {trigger.kind: trigger for one in keys if (trigger := trigger_of(one)) is not None}
        return list(found.values())

    def _definition(self, name: str, config: ServiceConfig, key: Key) -> Definition:
        on_disk, loaded = _differing(config, key, self._variables)
        return Definition(
            file=rf"HKEY_LOCAL_MACHINE\{api.SERVICES}\{plain(name)}",
            changed_at=key.changed_at,
            being_removed=bool(number_of(key, "DeleteFlag")),
            needs_reload=bool(on_disk),
            on_disk=on_disk,
            loaded=loaded,
        )

    def _program(self, name: str, config: ServiceConfig, key: Key) -> Program | None:
        line = command_line.expand(plain(config.command), self._variables)
        if not line:
            return None
        is_driver = bool(config.kind & api.DRIVERS)
        path, rest, also = self._path(line)
        words = [path, *(() if is_driver else command_line.words(rest))]
        return Program(
            path=path,
            arguments=mask_arguments(words)[:MOST],
            also_named=also or None,
            library=self._library(name, key) if config.kind & api.SHARED_PROCESS else "",
            style="" if is_driver else "shared-process" if config.kind & api.SHARED_PROCESS else "own-process",
            environment=[] if is_driver else _environment(key),
            paths=paths_of(words[1:]),
        )

    def _path(self, line: str) -> tuple[str, str, list[str]]:
        """The program that a line means, what follows it, and others that are there and that the line may mean as well."""
        heads = [
            (path, rest)
            for head, rest in command_line.candidates(line)
            if len(head) < _LONGEST_PATH
            for path in self._places(command_line.driver_path(head, self._root))
        ]
        there = [(head, rest) for head, rest in heads if self._is_file(head)]
        named = [(head, rest) for head, rest in heads if command_line.names_program(head)]
        chosen = next(iter([*there, *named, *heads]), (line[:_LONGEST_PATH], ""))
        return (*chosen, [head for head, _ in there[1:]])

    def _is_file(self, path: str) -> bool:
        """Whether a file is there; many services are of one program."""
        known = self._files.get(path)
        if known is None:
            files = self._reached.files
            known = self._files[path] = files.exists(path) and not files.is_folder(path)
        return known

    def _places(self, program: str) -> list[str]:
        """Where a program may lie: a name without a folder is sought in those of the system, then in those of the search path
        (CreateProcessW)."""
        if any(sign in program for sign in ":\\/%") or not self._root:
            return [program]
        known = {name.casefold(): value for name, value in self._variables.items()}
        folders = [rf"{self._root}\System32", self._root, *known.get("path", "").split(";")]
        return [
            f"{command_line.expand(one, self._variables).rstrip(_SLASH)}{_SLASH}{program}" for one in folders if one
        ]

    def _library(self, name: str, key: Key) -> str:
        text = text_of(key, "ServiceDll")
        if not text and any(below.lower() == "parameters" for below in key.below):
            text = text_of(self._key(rf"{api.SERVICES}\{name}\Parameters", ""), "ServiceDll")
        return command_line.expand(text, self._variables)


_LONGEST_PATH = 4000
"""Characters of a path that is looked at (as long as ``handles.MAX_PATH``)."""
_SLASH = "\\"


def _environment(key: Key) -> list[str]:
    return mask_arguments([text for text in texts_of(key, "Environment") if "=" in text])


def paths_of(words: list[str]) -> list[str]:
    """The paths among arguments, also behind the sign that gives an option its value."""
    found = []
    for word in words:
        for part in (word, word.partition("=")[2], word.partition(":")[2]):
            if len(part) > 3 and part[0].isascii() and part[0].isalpha() and part[1:3] in (":\\", ":/"):
                found.append(part)
                break
    return list(dict.fromkeys(found))[:MOST]


def account_name(name: str) -> str:
    """The name of an account: those that every system has under the one name that we use."""
    return _BUILT_IN.get(name.strip().casefold().removeprefix(".\\"), name.strip())


def _of_registry(key: Key, status: ServiceStatus) -> ServiceConfig:
    """What the registry alone says of a definition."""
    groups = [f"+{name}" for name in texts_of(key, "DependOnGroup")]
    startup = number_of(key, "Start")
    return ServiceConfig(
        number_of(key, "Type") or status.kind,
        -1 if startup is None else startup,
        text_of(key, "ImagePath"),
        text_of(key, "Group"),
        [*texts_of(key, "DependOnService"), *groups],
        text_of(key, "ObjectName"),
        text_of(key, "DisplayName") or status.shown_as,
    )


def _differing(config: ServiceConfig, key: Key, known: Mapping[str, str]) -> tuple[dict[str, str], dict[str, str]]:
    """Settings that the registry has otherwise than the manager has loaded them: by name, there and here."""
    pairs: dict[str, tuple[str, str]] = {}
    if (start := number_of(key, "Start")) is not None and config.startup >= 0:
        pairs["Start"] = str(start), str(config.startup)
    if key.values and not config.kind & api.DRIVERS:
        line, account = text_of(key, "ImagePath"), text_of(key, "ObjectName")
        groups = [f"+{name}" for name in texts_of(key, "DependOnGroup")]
        there = sorted(name.casefold() for name in [*texts_of(key, "DependOnService"), *groups])
        if config.needs:  # not every manager tells them
            loaded = sorted(plain(name).casefold() for name in config.needs)
            pairs["DependOnService"] = ", ".join(there), ", ".join(loaded)
        if line:
            pairs["ImagePath"] = command_line.expand(line, known), command_line.expand(plain(config.command), known)
        if account:
            pairs["ObjectName"] = account_name(account), account_name(plain(config.account))
    other = {name: pair for name, pair in pairs.items() if pair[0].casefold() != pair[1].casefold()}
    return {name: mask_text(pair[0]) for name, pair in other.items()}, {
        name: mask_text(pair[1]) for name, pair in other.items()
    }


def stands(service: Service, status: ServiceStatus) -> None:
    """Put in how it stands."""
    service.state = _STATES.get(status.state, "unknown")
    service.detail = _DETAILS.get(status.state, "")
    service.display_name = service.display_name or plain(status.shown_as)
    if status.process and service.program is not None:
        service.program.process = status.process
    service.last = _last_run(status)
    if status.state in PENDING:
        service.progress = Progress(checkpoint=status.checkpoint, wait_hint=status.wait_hint / 1000)


def _last_run(status: ServiceStatus) -> LastRun:
    if status.number == NEVER_TRIED:
        return LastRun(error_number=NEVER_TRIED)
    if not status.number:
        ended = status.state == api.STOPPED
        is_settled = ended or status.state in (api.RUNNING, api.PAUSED)
        return LastRun(result="success" if is_settled else "", error_number=0 if ended else None)
    own = status.own_number if status.number == OWN_NUMBER else None
    return LastRun(error_number=status.number, result="exit-code", exit_status=own)
