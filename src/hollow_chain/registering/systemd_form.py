"""A wish as unit files (systemd.unit(5), systemd.service(5), systemd.exec(5), systemd.timer(5), systemd.socket(5), systemd.path(5))."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from hollow_chain.boot.changes import seconds
from hollow_chain.registering import events
from hollow_chain.registering.events import EventWish, Restarts, Starts
from hollow_chain.registering.lines import DefinitionLine, Piece
from hollow_chain.registering.wish import OWN, Wish
from hollow_chain.trouble import wrong_call

PLACE = "/etc/systemd/system"
"""The place for own definitions (systemd.unit(5), "Unit File Load Path")."""
BOOT_TARGET = "multi-user.target"
MARK = "# Made by hollow-chain"
TYPES = {"started": "exec", "forked": "forking", "reported": "notify", "ended": "oneshot"}
_TYPE_WHY = {
    "started": "it stays in front, and does not report",
    "forked": "its first process ends, and leaves another",
    "reported": "it tells the manager when it is ready",
    "ended": "it is a job, and done when it ends",
}
_NOT_KNOWN_YET = "its first start will tell which it is; until then this stands in its place"
CONFINED = (
    ("NoNewPrivileges", "yes", "it gains no rights by running other programs"),
    ("ProtectSystem", "full", "it cannot write to programs and settings of the system"),
    ("PrivateTmp", "yes", "its temporary files are its own"),
    ("PrivateDevices", "yes", "it sees no devices but the harmless ones"),
    ("ProtectKernelTunables", "yes", "it cannot change settings of the kernel"),
    ("ProtectKernelModules", "yes", "it cannot load parts into the kernel"),
    ("ProtectControlGroups", "yes", "it cannot change how services are grouped"),
    ("RestrictSUIDSGID", "yes", "it cannot make files that run with the rights of others"),
    ("RestrictRealtime", "yes", "it cannot take the processor for itself"),
    ("LockPersonality", "yes", "it cannot change how the kernel runs it"),
)
"""Lines that most services can live with (systemd.exec(5), "Sandboxing"); each is kept only where the first start lived with it."""


@dataclass(frozen=True)
class Chosen:
    """What was chosen where the wish leaves it open, with the reasons."""

    account: str = ""
    account_why: str = ""
    folder: str = ""
    folder_why: str = ""
    low_port: int = 0
    """A port of the wish that the account may not take without a right to it."""
    confine: tuple[tuple[str, str, str], ...] = ()


def unit_name(wish: Wish) -> str:
    """The name that the manager knows it by."""
    stem = wish.name.removesuffix(".service")
    if wish.instance_of:
        template = wish.instance_of.removesuffix(".service").removesuffix("@")
        return f"{template}@{stem}.service"
    return f"{stem}.service"


def pieces_of(wish: Wish, chosen: Chosen) -> list[Piece]:
    """The files that define the service, itself first. Raises :class:`~hollow_chain.trouble.Trouble` for what systemd does not have."""
    starts, stops = events.starts_of(wish.start), events.stops_of(wish.stop_on)
    if starts.kind == events.DELAYED:
        raise wrong_call("start: systemd has no delayed group; write --start 'on time 2min after boot'")
    restarts = events.restarts_of(wish.restart)
    name = unit_name(wish)
    lines = [*_unit(wish, starts, stops, restarts), *_service(wish, chosen, stops, restarts), *_install(wish, starts)]
    if wish.instance_of:
        asked = [line for line in lines if not line.why and line.name not in ("ExecStart", "WantedBy")]
        pieces = [_piece(f"{PLACE}/{name}.d/50-hollow-chain.conf", asked, name)] if asked else []
    else:
        pieces = [_piece(f"{PLACE}/{name}", lines, name)]
    return [*pieces, *event_pieces(starts, name)]


def event_pieces(starts: Starts, name: str) -> list[Piece]:
    """The units of the events that have one, for the service *name*."""
    return [_of_event(event, name) for event in starts.events if event.kind in _UNITS]


def _piece(path: str, lines: list[DefinitionLine], unit: str) -> Piece:
    return Piece(path, tuple(lines), text_of(lines, unit), unit)


def text_of(lines: list[DefinitionLine], unit: str) -> str:
    """The text of a unit file."""
    parts = list(dict.fromkeys(line.part for line in lines))
    blocks = [
        "\n".join([f"[{part}]", *(f"{line.name}={line.value}" for line in lines if line.part == part)])
        for part in parts
    ]
    return f"{MARK}; taken off by: hollow-chain unregister {unit}\n\n" + "\n\n".join(blocks) + "\n"


def _unit(wish: Wish, starts: Starts, stops: tuple[EventWish, ...], restarts: Restarts) -> Iterator[DefinitionLine]:
    shown = ": ".join(text for text in (wish.shown_as, wish.describe) if text)
    stem = wish.name.removesuffix(".service")
    yield DefinitionLine(
        "Unit", "Description", quoted_percent(shown or stem), "" if shown else "its name, as nothing else is said of it"
    )
    for need in wish.needs:
        yield DefinitionLine("Unit", "Requires", need)
        yield DefinitionLine("Unit", "After", need, "what it needs has to be up before it begins")
    for other in wish.after:
        yield DefinitionLine("Unit", "After", other)
    yield from start_lines(starts)
    if wish.port and not any(event.kind == events.NETWORK for event in starts.events):
        yield DefinitionLine(
            "Unit",
            "After",
            "network.target",
            "it listens on a port: when the host goes down, it ends before the network",
        )
    for event in stops:
        if event.kind == events.DEVICE:
            yield DefinitionLine("Unit", "BindsTo", device_unit(event.what))
            yield DefinitionLine(
                "Unit", "After", device_unit(event.what), "what it is bound to has to be there before it begins"
            )
    if restarts.when != "never" and wish.up_when != "ended":
        why = "" if restarts.asked else "after that many it is left down, so that somebody sees it"
        yield DefinitionLine("Unit", "StartLimitIntervalSec", f"{restarts.within:g}", why)
        yield DefinitionLine("Unit", "StartLimitBurst", str(restarts.most), why)


def start_lines(starts: Starts) -> Iterator[DefinitionLine]:
    """What a service waits for, where an event starts it that has no unit of ours."""
    if any(event.kind == events.NETWORK for event in starts.events):
        yield DefinitionLine(
            "Unit", "Wants", "network-online.target", "the network is waited for only where somebody wants it"
        )
        yield DefinitionLine("Unit", "After", "network-online.target", "it starts when the network is up")
    for event in starts.events:
        if event.kind == events.DEVICE:
            yield DefinitionLine("Unit", "After", device_unit(event.what), "it starts when the device is there")


def _service(wish: Wish, chosen: Chosen, stops: tuple[EventWish, ...], restarts: Restarts) -> Iterator[DefinitionLine]:
    if not wish.instance_of or wish.up_when:
        kind = TYPES.get(wish.up_when, "exec")
        yield DefinitionLine("Service", "Type", kind, _TYPE_WHY[wish.up_when] if wish.up_when else _NOT_KNOWN_YET)
    if wish.up_when == "reported":
        yield DefinitionLine("Service", "NotifyAccess", "all", "also a process that it has started may report")
    if wish.up_when == "forked":
        yield _main_process(wish)
    yield DefinitionLine("Service", "ExecStart", command_line([wish.program, *wish.arguments]))
    if chosen.folder:
        yield DefinitionLine("Service", "WorkingDirectory", quoted_percent(chosen.folder), chosen.folder_why)
    if chosen.account == OWN:
        yield DefinitionLine("Service", "DynamicUser", "yes", chosen.account_why)
    elif chosen.account and chosen.account != "root":
        yield DefinitionLine("Service", "User", quoted_percent(chosen.account), chosen.account_why)
    if chosen.low_port:
        why = f"port {chosen.low_port} is for root, and for who has this one right of root's"
        yield DefinitionLine("Service", "AmbientCapabilities", "CAP_NET_BIND_SERVICE", why)
    if wish.env_file:
        yield DefinitionLine("Service", "EnvironmentFile", quoted_percent(wish.env_file))
    if wish.limit:
        yield DefinitionLine("Service", "TimeoutStartSec", f"{seconds(wish.limit):g}")
    if wish.up_when == "ended":
        if restarts.asked and restarts.when != "never":
            yield DefinitionLine("Service", "Restart", "on-failure")
            yield DefinitionLine("Service", "RestartSec", f"{restarts.after:g}")
    elif restarts.when != "never":
        unseen = wish.up_when == "forked" and not wish.pid_file
        why = (
            ""
            if restarts.asked
            else _UNSEEN_END
            if unseen
            else "it is started again after a failure, and not after a stop"
        )
        yield DefinitionLine("Service", "Restart", "always" if unseen else restarts.when, why)
        yield DefinitionLine(
            "Service",
            "RestartSec",
            f"{restarts.after:g}",
            "" if restarts.asked else "what made it fail gets the time to pass",
        )
    for event in stops:
        if event.kind == events.TIME:
            yield DefinitionLine("Service", "RuntimeMaxSec", f"{event.seconds:g}")
        elif event.kind != events.DEVICE:
            raise wrong_call(_NO_STOP[event.kind])
    for name, value, why in chosen.confine:
        yield DefinitionLine("Service", name, value, why)


_UNSEEN_END = "the manager does not see how it ends, so that each end counts as a failure"


def _main_process(wish: Wish) -> DefinitionLine:
    """How the manager is to know the process that matters. A guess takes one that is there when the first process ends, which may be one
    that ends in the next moment (daemon(7), "SysV Daemons", has two forks)."""
    if wish.pid_file:
        return DefinitionLine("Service", "PIDFile", quoted_percent(wish.pid_file), "this file names its process")
    return DefinitionLine(
        "Service", "GuessMainPID", "no", "it writes no PID file: it is up as long as any process of it runs"
    )


_NO_STOP = {
    events.NETWORK: (
        "stop-on: systemd does not tell when the network is down; name the adapter instead: 'device /sys/class/net/NAME gone'"
    ),
    events.PATH: "stop-on: systemd has no event for a path that goes; a device has one: 'device /dev/NAME gone'",
}


def _install(wish: Wish, starts: Starts) -> Iterator[DefinitionLine]:
    if wish.instance_of:
        return
    asked = "" if wish.start else "it starts with the boot, as services do where nothing else is said"
    if starts.kind == events.AUTOMATIC:
        yield DefinitionLine("Install", "WantedBy", BOOT_TARGET, asked)
    elif not starts.events:
        yield DefinitionLine("Install", "WantedBy", BOOT_TARGET, "so that it can be set to start with the boot one day")
    for event in starts.events:
        if event.kind == events.NETWORK:
            yield DefinitionLine("Install", "WantedBy", BOOT_TARGET, "the boot starts it, and it waits for the network")
        elif event.kind == events.DEVICE:
            yield DefinitionLine("Install", "WantedBy", device_unit(event.what))


# Events that have a unit of their own.


def _of_event(event: EventWish, name: str) -> Piece:
    kind, lines = _UNITS[event.kind](event, name)
    unit = f"{name.removesuffix('.service')}.{kind}"
    return Piece(f"{PLACE}/{unit}", tuple(lines), text_of(lines, name), unit)


def _path_unit(event: EventWish, name: str) -> tuple[str, list[DefinitionLine]]:
    return "path", [
        DefinitionLine(
            "Unit",
            "Description",
            f"Starts {quoted_percent(name)} when {quoted_percent(event.what)} is there",
            "what it is for",
        ),
        DefinitionLine("Path", "PathExists", quoted_percent(event.what)),
        DefinitionLine("Install", "WantedBy", "paths.target", "the boot begins to watch"),
    ]


def _socket_unit(event: EventWish, name: str) -> tuple[str, list[DefinitionLine]]:
    listens = "ListenStream"
    what = event.what
    if not what.startswith("/"):
        address, port, protocol = events.endpoint(event)
        listens = "ListenDatagram" if protocol == "udp" else "ListenStream"
        what = f"[{address}]:{port}" if ":" in address else f"{address}:{port}" if address else str(port)
    return "socket", [
        DefinitionLine("Unit", "Description", f"Starts {quoted_percent(name)} when somebody comes", "what it is for"),
        DefinitionLine("Socket", listens, quoted_percent(what)),
        DefinitionLine("Install", "WantedBy", "sockets.target", "the boot begins to listen"),
    ]


def _timer_unit(event: EventWish, name: str) -> tuple[str, list[DefinitionLine]]:
    if event.clock:
        days = f"{event.day[:3].title()} " if event.day else ""
        when = [DefinitionLine("Timer", "OnCalendar", f"{days}*-*-* {event.clock}:00")]
        when.append(
            DefinitionLine("Timer", "Persistent", "yes", "a time that passes while the host is off is made up for")
        )
    elif event.every:
        when = [
            DefinitionLine("Timer", "OnBootSec", f"{event.seconds:g}", "the first time counts from the boot"),
            DefinitionLine("Timer", "OnUnitActiveSec", f"{event.seconds:g}"),
        ]
    else:
        when = [DefinitionLine("Timer", "OnBootSec", f"{event.seconds:g}")]
    return "timer", [
        DefinitionLine("Unit", "Description", f"Starts {quoted_percent(name)} at its time", "what it is for"),
        *when,
        DefinitionLine("Install", "WantedBy", "timers.target", "the boot begins to count"),
    ]


_UNITS = {events.PATH: _path_unit, events.SOCKET: _socket_unit, events.TIME: _timer_unit}


def device_unit(path: str) -> str:
    """The unit of a device, by the path of its node or in ``/sys`` (systemd.device(5)); a name that is one already stays."""
    return path if path.endswith(".device") else f"{escape_path(path)}.device"


def escape_path(path: str) -> str:
    """A path as a part of a unit's name (systemd-escape(1), "--path"; systemd.unit(5), "String Escaping for Inclusion in Unit Names")."""
    plain = "/".join(part for part in path.split("/") if part) or "/"
    if plain == "/":
        return "-"
    out = []
    for at, one in enumerate(plain.encode()):
        letter = chr(one)
        if letter == "/":
            out.append("-")
        elif (letter.isascii() and (letter.isalnum() or letter in ":_")) or (letter == "." and at):
            out.append(letter)
        else:
            out.append(f"\\x{one:02x}")
    return "".join(out)


def quoted_percent(text: str) -> str:
    """A text whose percent signs mean themselves (systemd.unit(5), "Specifiers")."""
    return text.replace("%", "%%")


_PLAIN = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_@%+=:,./-")


def command_line(words: list[str]) -> str:
    """A command as ``ExecStart=`` takes it, every word as it is (systemd.service(5), "Command Lines"); in the first, variables are not
    looked for."""
    return " ".join([_quoted(words[0], False), *(_quoted(word) for word in words[1:])])


def _quoted(word: str, with_variables: bool = True) -> str:
    plain = word.replace("%", "%%")
    plain = plain.replace("$", "$$") if with_variables else plain
    if word and all(letter in _PLAIN or letter == "$" for letter in word):
        return plain
    return '"' + plain.replace("\\", "\\\\").replace('"', '\\"') + '"'
