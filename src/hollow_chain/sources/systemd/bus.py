"""What systemd says over D-Bus (org.freedesktop.systemd1(5)), fetched in one pipelined conversation.

Only reading calls are made: ``ListUnits``, ``ListJobs``, ``GetJobBefore`` and ``Properties.GetAll``. Asking an object path of a unit
that is installed but not loaded makes the manager load it for as long as the call takes, and no longer.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import Iterable, Mapping
from types import MappingProxyType
from typing import Any, NamedTuple

from hollow_chain.reach.interfaces import Files, NotThere, Reached
from hollow_chain.sources.systemd.unit_facts import additions_of, is_hand_made
from hollow_chain.trouble import Trouble

MANAGER = "org.freedesktop.systemd1"
MANAGER_PATH = "/org/freedesktop/systemd1"
SECONDS = 20.0
"""Seconds without any answer, after which the conversation is given up: other clients of a bus wait 25 for one."""
# dbus-daemon(1) allows 128 answers to be due on one connection ("max_replies_per_connection").
IN_FLIGHT = 100
MOST_JOBS = 200
"""Waiting jobs of which is asked what they wait for: a boot of a large host has some hundreds at its first moment."""
Properties = dict[str, Any]


class QueuedJob(NamedTuple):
    """A job in the manager's queue."""

    number: int
    unit: str
    kind: str
    state: str
    """``waiting`` or ``running``."""
    behind: tuple[str, ...] = ()
    """The units whose jobs have to be done before this one may begin."""


class BusFacts(NamedTuple):
    """Everything that was fetched, untranslated."""

    manager: Properties
    units: dict[str, Properties]
    """By the unit's own name."""
    unloaded: dict[str, str]
    """Installed definitions that nothing has loaded, by name: the path of each. Templates are among them."""
    activatable: frozenset[str]
    """Bus names that the message bus can start something for."""
    refused: dict[str, str]
    """Units that could not be asked, and why."""
    jobs: tuple[QueuedJob, ...] = ()
    dangling: Mapping[str, tuple[str, str]] = MappingProxyType({})
    """Other names for units that are not there: the path of each link, and where it leads."""


def fetch(reached: Reached, extra: tuple[str, ...] = ()) -> BusFacts:
    """Ask the manager of a host; *extra* names units to ask for although nothing has loaded them.

    Raises :class:`Trouble` (exit status 3) where there is no systemd, no bus, or no answer in time.
    """
    if not reached.files.is_folder("/run/systemd/system"):
        raise Trouble("this machine is not run by systemd (no /run/systemd/system); give facts with --from")
    try:
        return reached.converse(lambda bus: _converse(bus, extra, reached.files), SECONDS)
    except NotThere as error:
        raise Trouble(f"cannot talk to systemd over D-Bus: {error}") from None


async def _converse(bus: Any, extra: tuple[str, ...], files: Files) -> BusFacts:
    manager_call = properties_on(bus, MANAGER_PATH)
    names_call = call_on(
        bus, "org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus", "ListActivatableNames"
    )
    manager, names, jobs, listed = await asyncio.gather(
        manager_call, names_call, _queue(bus), _listed(bus, "ListUnits")
    )
    paths = {row[0]: row[6] for row in listed}
    unit_files = installed(manager.get("UnitPath", ()) if isinstance(manager, dict) else (), files)
    loaded = await _ask_all(bus, paths)
    known = set(paths).union(*(facts.get("Names", ()) for facts in loaded[0].values()))
    files.expect(path for name, path in unit_files.items() if name not in known)
    links = {name: files.link(path) for name, path in unit_files.items() if name not in known}
    unloaded = {name: unit_files[name] for name, link in links.items() if not _is_alias(name, link)}
    files.expect(additions_of(unloaded))
    asked = [name for name, path in unloaded.items() if not is_template(name) and is_hand_made(name, path, files)]
    asked += [name for name in extra if name not in known and name not in asked]
    more = await _ask_all(bus, {name: f"{MANAGER_PATH}/unit/{escape(name)}" for name in asked})
    return BusFacts(
        manager=manager if isinstance(manager, dict) else {},
        units=loaded[0] | more[0],
        unloaded={name: path for name, path in unloaded.items() if name not in more[0]},
        activatable=frozenset(names[0] if isinstance(names, list) else ()),
        refused=loaded[1] | more[1],
        jobs=jobs,
        dangling={
            name: (unit_files[name], link)
            for name, link in links.items()
            if _leads_nowhere(unit_files[name], link, files)
        },
    )


async def _queue(bus: Any) -> tuple[QueuedJob, ...]:
    """The jobs that are not done; none where the manager does not tell."""
    body = await call_on(bus, MANAGER, MANAGER_PATH, f"{MANAGER}.Manager", "ListJobs")
    if isinstance(body, str):
        return ()
    jobs = [QueuedJob(*row[:4]) for row in body[0]]
    waiting = [job for job in jobs if job.state == "waiting"][:MOST_JOBS]
    before = dict(zip(waiting, await asyncio.gather(*(_before(bus, job) for job in waiting)), strict=True))
    return tuple(job._replace(behind=before.get(job, ())) for job in jobs)


async def _before(bus: Any, job: QueuedJob) -> tuple[str, ...]:
    body = await call_on(bus, MANAGER, MANAGER_PATH, f"{MANAGER}.Manager", "GetJobBefore", "u", [job.number])
    return () if isinstance(body, str) else tuple(row[1] for row in body[0])


async def _ask_all(bus: Any, paths: dict[str, str]) -> tuple[dict[str, Properties], dict[str, str]]:
    answers = await _windowed(bus, list(paths.values()))
    units: dict[str, Properties] = {}
    refused: dict[str, str] = {}
    for name, answer in zip(paths, answers, strict=True):
        if isinstance(answer, str):
            refused[name] = answer
        else:
            units[answer.get("Id") or name] = answer
    return units, refused


async def _windowed(bus: Any, paths: list[str]) -> list[Properties | str]:
    """The properties of all *paths*, in their order, with up to ``IN_FLIGHT`` questions under way."""
    answers: list[Properties | str] = ["not asked"] * len(paths)
    waiting = iter(enumerate(paths))

    async def work() -> None:
        for index, path in waiting:
            answers[index] = await properties_on(bus, path)

    await asyncio.gather(*(work() for _ in range(min(IN_FLIGHT, len(paths)))))
    return answers


async def _listed(bus: Any, member: str) -> list[Any]:
    body = await call_on(bus, MANAGER, MANAGER_PATH, f"{MANAGER}.Manager", member)
    if isinstance(body, str):
        raise Trouble(f"systemd refuses {member}: {body}")
    return list(body[0])


async def properties_on(bus: Any, path: str) -> Properties | str:
    """All properties of one object of the manager, or the text of the refusal."""
    # An empty interface name means the properties of all of them.
    body = await call_on(bus, MANAGER, path, "org.freedesktop.DBus.Properties", "GetAll", "s", [""])
    return body if isinstance(body, str) else {key: value.value for key, value in body[0].items()}


async def call_on(
    bus: Any,
    destination: str,
    path: str,
    interface: str,
    member: str,
    signature: str = "",
    body: list[Any] | None = None,
) -> list[Any] | str:
    """The body of the answer, or the text of the refusal."""
    from dbus_fast import Message, MessageType

    answer = await bus.call(
        Message(
            destination=destination,
            path=path,
            interface=interface,
            member=member,
            signature=signature,
            body=body or [],
        )
    )
    if answer is None or answer.message_type is MessageType.ERROR:
        return str(answer.body[0]) if answer is not None and answer.body else "no answer"
    return list(answer.body)


UNIT_SUFFIXES = (
    ".service",
    ".socket",
    ".timer",
    ".mount",
    ".automount",
    ".target",
    ".path",
    ".swap",
    ".device",
)


def installed(folders: Iterable[str], files: Files) -> dict[str, str]:
    """Every definition in the manager's search path, the first folder winning (systemd.unit(5), "Unit File Load Path").

    Scanned here because the manager's own list costs it more time than all other questions together.
    """
    found: dict[str, str] = {}
    files.expect((), folders)
    for folder in folders:
        for name in files.names(folder):
            if name.endswith(UNIT_SUFFIXES) and _NAME.fullmatch(name):
                found.setdefault(name, f"{folder}/{name}")
    return found


_NAME = re.compile(r"[\w:\-\\][\w:\-.\\@]{0,254}", re.ASCII)
"""A name that the manager takes for one of a unit (systemd.unit(5)); files that are hidden it passes over."""


def _is_alias(name: str, link: str) -> bool:
    """Whether the file is only another name for a definition (a link to one of another name)."""
    target = link.rpartition("/")[2]
    return target != name and target.endswith(UNIT_SUFFIXES)


def _leads_nowhere(path: str, target: str, files: Files) -> bool:
    """Whether a definition is a link to one that is not there."""
    return (
        bool(target)
        and target.endswith(UNIT_SUFFIXES)
        and not files.exists(target if target.startswith("/") else f"{path.rpartition('/')[0]}/{target}")
    )


def is_template(name: str) -> bool:
    stem, dot, _ = name.rpartition(".")
    return bool(dot) and stem.endswith("@")


def escape(name: str) -> str:
    """*name* as the last part of an object path: all but letters and digits as ``_xx`` (sd_bus_path_encode(3))."""
    made = "".join(
        chr(byte) if chr(byte).isalnum() and byte < 128 and not (i == 0 and chr(byte).isdigit()) else f"_{byte:02x}"
        for i, byte in enumerate(name.encode())
    )
    return made or "_"
