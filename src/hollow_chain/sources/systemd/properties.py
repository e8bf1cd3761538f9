"""From systemd's words to ours: a pure translation of D-Bus properties into facts.

The trap that is defused here: what systemd calls *disabled* is only "not started at boot", and becomes
``manual``; what it calls *masked* cannot be started by anyone, and becomes ``disabled`` (systemctl(1),
"is-enabled").
"""

from __future__ import annotations

from typing import Any

from hollow_chain.facts.service import (
    Account,
    Condition,
    Definition,
    Limits,
    Link,
    LinkKind,
    Program,
    Service,
    Startup,
    State,
    Trigger,
)
from hollow_chain.sources.systemd.confinement import confinement_of
from hollow_chain.sources.systemd.last_run import last_run_of
from hollow_chain.sources.systemd.values import FOREVER, MOST_ARGUMENTS, Properties, moment, said, seconds
from hollow_chain.wording.secrets import mask_arguments, mask_environment

# systemd.unit(5): the word, its kind, whether a start of this one starts the other, whether a stop of the
# other stops this one although the link is not hard.
_LINKS: tuple[tuple[str, LinkKind, bool, bool], ...] = (
    ("Requires", "hard", True, False),
    ("BindsTo", "hard", True, False),
    ("Requisite", "hard", False, False),
    ("Wants", "soft", True, False),
    ("Upholds", "soft", True, False),
    ("PartOf", "soft", False, True),
    ("StopPropagatedFrom", "soft", False, True),
    ("After", "order", False, False),
    ("Conflicts", "clash", False, False),
)
_STATES: dict[str, State] = {
    "active": "running",
    "reloading": "running",
    "refreshing": "running",
    "activating": "starting",
    "deactivating": "stopping",
    "inactive": "stopped",
    "failed": "failed",
    "maintenance": "failed",
}
_LOADS = {
    "loaded": "loaded",
    "merged": "loaded",
    "stub": "loaded",
    "masked": "masked",
    "not-found": "missing",
}
_FROM_BOOT = ("OnBootUSec", "OnStartupUSec", "OnActiveUSec")
"""Settings of a timer that count from the boot, or from the start of the timer in it (systemd.timer(5))."""
_TRIGGER_KINDS = ("socket", "timer", "path", "automount")
_FROZEN = ("freezing", "frozen", "freezing-by-parent", "frozen-by-parent")
"""What the manager says of a service whose processes are kept from running (org.freedesktop.systemd1(5), "FreezerState")."""


def service_of(facts: Properties, activatable: frozenset[str], manager: Properties | None = None) -> Service:
    """One unit as a service of the snapshot format. *manager*: what the manager says of itself, its default limits among that."""
    name = facts["Id"]
    kind = name.rpartition(".")[2]
    has_run = bool(facts.get("InactiveEnterTimestamp") or facts.get("ActiveEnterTimestamp"))
    stem, at, argument = name.rpartition(".")[0].partition("@")
    return Service(
        name=name,
        kind=kind,
        description=said(facts.get("Description", "")),
        aliases=[n for n in facts.get("Names", ()) if n != name],
        state=_state(facts, kind, has_run),
        detail=_detail(facts),
        startup=startup_of(facts, activatable),
        template_of=f"{stem}@.{kind}" if at else "",
        instance=unescape(argument) if at else "",
        wanted_by=sorted(
            {n for word in ("WantedBy", "RequiredBy", "UpheldBy") for n in facts.get(word, ()) if n.endswith(".target")}
        ),
        links=_links(facts),
        triggers=_triggers(facts, activatable),
        conditions=_conditions(facts),
        definition=_definition(facts),
        program=_program(facts, kind),
        account=_account(facts),
        last=last_run_of(facts, kind),
        refuses_hand=bool(facts.get("RefuseManualStart")),
        stops_unneeded=bool(facts.get("StopWhenUnneeded")),
        limits=_limits(facts, manager or {}),
        confinement=confinement_of(facts),
    )


def _devices(facts: Properties) -> list[str]:
    """Devices that want it: it starts when one comes (systemd.device(5))."""
    return sorted({n for word in ("WantedBy", "RequiredBy") for n in facts.get(word, ()) if n.endswith(".device")})


def startup_of(facts: Properties, activatable: frozenset[str]) -> Startup:
    """The startup type in our words (see the head of this module)."""
    word = facts.get("UnitFileState") or ""
    if facts.get("LoadState") == "masked" or word.startswith("masked"):
        return "disabled"
    by = [name for link in ("WantedBy", "RequiredBy", "UpheldBy") for name in facts.get(link, ())]
    wanted = any(name.endswith(".target") for name in by)
    if word.startswith("enabled") and (wanted or not (facts.get("TriggeredBy") or by)):
        return "automatic"  # otherwise only what triggers it, or wants it, is started at boot
    if facts.get("TriggeredBy") or _devices(facts) or (facts.get("BusName") or None) in activatable:
        return "event"
    if word in ("disabled", "linked", "linked-runtime"):
        return "manual"
    if word == "generated" and wanted:
        return "automatic"
    if word == "indirect":
        return "on-need" if wanted else "manual"
    return "on-need"


def unescape(text: str) -> str:
    """An instance argument as it was meant (systemd-escape(1), without the path form)."""
    out = bytearray()
    position = 0
    while position < len(text):
        if text[position : position + 2] == "\\x" and len(text) >= position + 4:
            try:
                out.append(int(text[position + 2 : position + 4], 16))
                position += 4
                continue
            except ValueError:
                pass
        out += text[position].encode()
        position += 1
    return out.decode("utf-8", "replace")


def _detail(facts: Properties) -> str:
    frozen = facts.get("FreezerState", "")
    return f"{facts.get('ActiveState', '')} ({facts.get('SubState', '')}{f', {frozen}' if frozen in _FROZEN else ''})"


def _state(facts: Properties, kind: str, has_run: bool) -> State:
    state = _STATES.get(facts.get("ActiveState", ""), "unknown")
    if state == "running" and facts.get("FreezerState") in _FROZEN:
        return "paused"
    if state == "stopped" and kind == "service" and facts.get("Type") == "oneshot" and has_run:
        ended = bool(facts.get("ExecMainExitTimestamp"))
        if ended and facts.get("Result") == "success" and not facts.get("RemainAfterExit"):
            return "done"
    return state


def _links(facts: Properties) -> list[Link]:
    own = facts["Id"]
    return [
        Link(to=name, kind=kind, word=word, pulls=pulls, stops=stops)
        for word, kind, pulls, stops in _LINKS
        for name in facts.get(word, ())
        if name != own
    ]


def _triggers(facts: Properties, activatable: frozenset[str]) -> list[Trigger]:
    found = [Trigger(kind=name.rpartition(".")[2], name=name) for name in facts.get("TriggeredBy", ())]
    found += [Trigger(kind="device", name=name) for name in _devices(facts)]
    bus_name = facts.get("BusName") or ""
    if bus_name in activatable:
        found.append(Trigger(kind="bus", name=bus_name))
    due = moment(facts.get("NextElapseUSecRealtime"))
    # While what it starts runs, a timer has no next moment; it is set to one all the same.
    if due is not None or (facts.get("TimersCalendar") and facts.get("ActiveState") == "active"):
        found.append(Trigger(kind="time", name=facts["Id"], due_at=due))
    found += [
        Trigger(
            kind="time",
            name=facts["Id"],
            after_boot=seconds(after),
            spread=seconds(facts.get("RandomizedDelayUSec")) or 0.0,
        )
        for base, after, _ in facts.get("TimersMonotonic", ())
        if base in _FROM_BOOT
    ]
    return found


def _conditions(facts: Properties) -> list[Condition]:
    return [
        Condition(
            kind=kind,
            parameter=parameter,
            negated=negated,
            optional=trigger,
            outcome="met" if state > 0 else "unmet" if state < 0 else "untested",
        )
        for group in ("Conditions", "Asserts")
        for kind, trigger, negated, parameter, state in facts.get(group, ())
    ]


def _definition(facts: Properties) -> Definition:
    load = facts.get("LoadState", "loaded")
    error = facts.get("LoadError") or ("", "")
    return Definition(
        file=facts.get("FragmentPath") or facts.get("SourcePath") or "",
        made_from=facts.get("SourcePath") or "" if facts.get("FragmentPath") else "",
        drop_ins=list(facts.get("DropInPaths", ())),
        load=_LOADS.get(load, "refused"),
        error=said(error[1]) if load not in ("loaded", "masked", "not-found") else "",
        needs_reload=bool(facts.get("NeedDaemonReload")),
    )


def _program(facts: Properties, kind: str) -> Program | None:
    commands = facts.get("ExecStart") or facts.get("ExecMount") or ()
    if kind == "mount":
        return Program(style="mount", paths=[p for p in (facts.get("Where", ""), facts.get("What", "")) if p])
    if kind != "service":
        return None
    path, arguments = (commands[0][0], mask_arguments(list(commands[0][1]))) if commands else ("", [])
    files = [p for p, may_be_missing in facts.get("EnvironmentFiles", ()) if not may_be_missing]
    return Program(
        path=path,
        arguments=arguments[:MOST_ARGUMENTS],
        # A folder marked with "!" may be missing, and is then not used.
        folder="" if facts.get("WorkingDirectory", "").startswith("!") else facts.get("WorkingDirectory", ""),
        root=facts.get("RootDirectory", ""),
        outer_path=_outer_path(facts, path),
        style=facts.get("Type", ""),
        stays=bool(facts.get("RemainAfterExit")),
        paths=_named_paths(facts, arguments[1:]),
        environment=mask_environment(list(facts.get("Environment", ()))[:100]),
        environment_files=files,
        optional_files=[p for p, may_be_missing in facts.get("EnvironmentFiles", ()) if may_be_missing][:64] or None,
        credential_files=[p for _, p in facts.get("LoadCredential", ()) if p.startswith("/")][:64] or None,
        # The manager does not tell it, but for the output, which goes there too where nothing else is set for it.
        input_file=_input_of(facts),
        pid_file=facts.get("PIDFile", ""),
        process=facts.get("MainPID", 0),
        log_files=[path for word in ("StandardOutput", "StandardError") if (path := _file_of(facts.get(word, "")))],
        own_folders=_own_folders(facts),
    )


_BROUGHT_IN = (
    "BindPaths", "BindReadOnlyPaths", "TemporaryFileSystem", "MountImages", "ExtensionImages", "ExtensionDirectories",
)  # fmt: skip
"""Settings that bring something into the root folder of a unit that does not lie there (systemd.exec(5), "Paths")."""


def _outer_path(facts: Properties, path: str) -> str:
    root = facts.get("RootDirectory", "").rstrip("/")
    return f"{root}{path}" if root and path and not any(facts.get(name) for name in _BROUGHT_IN) else ""


def _input_of(facts: Properties) -> str:
    kind = str(facts.get("StandardInput", ""))
    if kind.startswith("tty"):
        return str(facts.get("TTYPath") or "/dev/console")
    return _file_of(facts.get("StandardOutput", "")) if kind == "file" else ""


def _file_of(stream: str) -> str:
    """The file that a stream is bound to (systemd.exec(5), "StandardInput=", "StandardOutput="); empty where it is none."""
    kind, _, path = stream.partition(":")
    return path if kind in ("file", "append", "truncate") else ""


# systemd.exec(5), "RuntimeDirectory=, StateDirectory=, CacheDirectory=, LogsDirectory=, ConfigurationDirectory=".
_GIVEN_FOLDERS = {
    "RuntimeDirectory": "/run",
    "StateDirectory": "/var/lib",
    "CacheDirectory": "/var/cache",
    "LogsDirectory": "/var/log",
    "ConfigurationDirectory": "/etc",
}


def _own_folders(facts: Properties) -> list[str]:
    return [
        f"{root}/{name}" for word, root in _GIVEN_FOLDERS.items() for name in facts.get(word, ()) if ".." not in name
    ]


def _named_paths(facts: Properties, arguments: list[str]) -> list[str]:
    named: dict[str, None] = {}
    for argument in arguments:
        path = argument[argument.index("=") + 1 :] if argument.startswith("-") and "=" in argument else argument
        if path.startswith("/") and len(path) < 1000 and not any(mark in path for mark in " \n;,*"):
            named[path] = None
    for setting in ("ReadWritePaths", "ReadOnlyPaths", "InaccessiblePaths"):
        for path in facts.get(setting, ()):
            if not path.startswith("-"):
                named[path.lstrip("+!")] = None
    for source, _, may_be_missing, _ in (*facts.get("BindPaths", ()), *facts.get("BindReadOnlyPaths", ())):
        if not may_be_missing:
            named[source] = None
    return list(named)[:64]


def _account(facts: Properties) -> Account | None:
    user, group = facts.get("User", ""), facts.get("Group", "")
    dynamic = bool(facts.get("DynamicUser"))
    more = list(facts.get("SupplementaryGroups", ()))
    return Account(user=user, group=group, groups=more, dynamic=dynamic) if user or group or more or dynamic else None


# systemd.exec(5), "Process Properties", and systemd.resource-control(5); as soft limits where there are two.
_BOUNDS = (
    "LimitNOFILESoft", "LimitNPROCSoft", "LimitASSoft", "LimitDATASoft", "LimitSTACKSoft", "LimitMEMLOCKSoft", "LimitFSIZESoft",
    "LimitLOCKSSoft", "LimitCPUSoft", "TasksMax", "MemoryMax",
)  # fmt: skip


def _lowered(facts: Properties, manager: Properties) -> dict[str, int]:
    """The bounds that are lower than what the manager gives to all (systemd-system.conf(5), ``DefaultLimitNOFILE=`` and the like)."""
    found: dict[str, int] = {}
    for bound in _BOUNDS:
        own, usual = facts.get(bound), manager.get(f"Default{bound}", FOREVER)
        if isinstance(own, int) and isinstance(usual, int) and own < usual:
            found[bound.removesuffix("Soft")] = own
    return found


def _limits(facts: Properties, manager: Properties) -> Limits | None:
    if "TimeoutStartUSec" not in facts and "StartLimitBurst" not in facts:
        return None
    memory = facts.get("MemoryMax")
    return Limits(
        start_seconds=seconds(facts.get("TimeoutStartUSec", facts.get("TimeoutUSec"))),
        stop_seconds=seconds(facts.get("TimeoutStopUSec")),
        rate_count=facts.get("StartLimitBurst"),
        rate_seconds=seconds(facts.get("StartLimitIntervalUSec")),
        restart=facts.get("Restart", ""),
        restart_seconds=seconds(facts.get("RestartUSec")),
        memory_bytes=memory if isinstance(memory, int) and memory < FOREVER else None,
        run_seconds=_set_seconds(facts.get("RuntimeMaxUSec")),
        watchdog_seconds=_set_seconds(facts.get("WatchdogUSec")),
        lowered=_lowered(facts, manager) or None,
    )


def _set_seconds(microseconds: Any) -> float | None:
    """A duration of systemd in seconds; None where none is set."""
    known = seconds(microseconds)
    return known if known is not None and known > 0 else None
