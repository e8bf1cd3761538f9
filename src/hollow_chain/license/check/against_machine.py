"""The server and the daemons of a license file against the machine that it is meant for."""

from __future__ import annotations

import base64
from typing import Any

from hollow_chain.facts.endpoints import Endpoint, in_ranges, of_listener, overlap
from hollow_chain.license import file as form
from hollow_chain.license.check.keys import FITS, TEXTS, WHOLE, right_keys, tables_of
from hollow_chain.license.check.problems import ALTERED, EDIT, MACHINE, NEW_FILE, NOTHING, FileLook, Table
from hollow_chain.license.compare import difference, plain_id
from hollow_chain.license.places import Way


def check_server(look: FileLook, server: Any) -> None:
    if not isinstance(server, dict):
        return
    right_keys(look, "server", server, ("server",))
    if isinstance(server.get("host"), str):
        _check_name(look, server["host"])
    if FITS[TEXTS](server.get("host_ids")):
        _check_ids(look, server["host_ids"])
    if FITS[WHOLE](server.get("port")):
        _check_port(look, server["port"], "the server's port", ("server", "port"))


def _check_name(look: FileLook, name: str) -> None:
    host, way = look.host, ("server", "host")
    if not name.strip():
        look.told("host", "host is empty", EDIT, way, cause="license-host-mismatch")
    if host is None or not name.strip() or name == host.name:
        return
    if name.casefold() == host.name.casefold():
        look.told("host", f"host {name!r} differs from {host.name!r} in upper and lower case only", EDIT, way, True)
    elif name.casefold().partition(".")[0] == host.name.casefold().partition(".")[0]:
        look.told("host", f"host {name!r} differs from {host.name!r} only in its domain", EDIT, way, True)
    else:
        says = f"it is made out for the host {name!r}; this is {host.name!r}"
        look.told("host", says, EDIT, way, cause="license-host-mismatch")


def _check_ids(look: FileLook, ids: list[str]) -> None:
    way = ("server", "host_ids")
    plain = [plain_id(one) for one in ids]
    if not ids:
        look.told("host-id", "host_ids is empty", NEW_FILE, way, cause="license-hostid-mismatch")
    for one, bare in zip(ids, plain, strict=True):
        if len(bare) != 12:
            look.told(
                "host-id",
                f"{one[:40]!r} is no hardware address of 6 bytes",
                NEW_FILE,
                way,
                cause="license-hostid-mismatch",
            )
    for one in {a for a in plain if plain.count(a) > 1}:
        look.told("host-id", f"host ID {one} stands there twice", NOTHING, way, True)
    if look.host is None or not plain:
        return
    here = {plain_id(a.hardware_address): a for a in look.host.adapters if plain_id(a.hardware_address).strip("0")}
    matching = [here[bare] for bare in plain if bare in here]
    if matching:
        if all(adapter.up is False for adapter in matching):
            says = f"only the adapter {matching[0].name} has one of its host IDs, and that one is down"
            look.told("host-id", says, MACHINE, way, True)
        return
    if not here:
        look.told(
            "host-id",
            "no hardware address of this machine could be read, so the host IDs are not checked",
            NOTHING,
            way,
            True,
        )
        return
    says = f"none of its host IDs is of this machine{_near_id(look, plain, here)}"
    look.told("host-id", says, NEW_FILE, way, cause="license-hostid-mismatch")


def _near_id(look: FileLook, plain: list[str], here: dict[str, Any]) -> str:
    """What a host ID that fits nothing may have been: another host's, or one of here with digits swapped or mistyped."""
    for one in plain:
        if one in look.others:
            return f": {_dotted(one)} is that of {look.others[one]}"
        for real, adapter in here.items():
            how = difference(one, real)
            if how:
                return f": {_dotted(one)} is {_dotted(real)} (adapter {adapter.name}) with {how}"
    return f" ({', '.join(f'{_dotted(real)} is {adapter.name}' for real, adapter in list(here.items())[:4])})"


def _dotted(bare: str) -> str:
    return ":".join(bare[at : at + 2] for at in range(0, len(bare), 2))


def _check_port(look: FileLook, port: int, what: str, way: Way) -> None:
    if not 1 <= port <= 65535:
        look.told("port", f"{what} is {str(port)[:20]}; ports go from 1 to 65535", EDIT, way)
        return
    host = look.host
    if host is None:
        return
    kept = in_ranges(port, host.limits.reserved_ports) if host.limits else ""
    if kept:
        look.told("port", f"{what} {port} is kept by the system ({kept})", EDIT, way, cause="port-forbidden")
    elif port < 1024:
        look.told("port", f"{what} {port} is below 1024 and needs a right of its own", EDIT, way, True)
    wanted = Endpoint(port)
    holder = next((s for s in host.listeners if overlap(wanted, of_listener(s))), None)
    if holder is not None and not _is_license_server(look, holder.service):
        who = holder.service or holder.program.rpartition("/")[2] or f"process {holder.process}"
        look.told("port", f"{what} {port} is held by {who} at this moment", EDIT, way, True, cause="port-held")


def _is_license_server(look: FileLook, service: str) -> bool:
    return look.host is not None and any(service == server.service for server in look.host.license_servers)


def check_daemons(look: FileLook, document: Table) -> None:
    tables = tables_of(document, "daemon")
    names: dict[str, int] = {}
    ports: dict[int, str] = {}
    server = document.get("server")
    if isinstance(server, dict) and isinstance(server.get("port"), int):
        ports[server["port"]] = "the server"
    for number, daemon in enumerate(tables):
        way: Way = ("daemon", number)
        right_keys(look, "daemon", daemon, way)
        name = daemon.get("name")
        if isinstance(name, str):
            if name in names:
                look.told(
                    "duplicate",
                    f"the daemon {name!r} stands there twice (first as number {names[name] + 1})",
                    EDIT,
                    (*way, "name"),
                )
            names.setdefault(name, number)
        _check_daemon_port(look, daemon, ports, way)
        if isinstance(daemon.get("key"), str) and not _is_key(daemon["key"]):
            look.told(
                "key", f"the public key of {name!r} is not 32 bytes in base64", NEW_FILE, (*way, "key"), cause=ALTERED
            )
        if isinstance(daemon.get("program"), str):
            _check_program(look, daemon["program"], str(name), (*way, "program"))


def _check_daemon_port(look: FileLook, daemon: Table, ports: dict[int, str], way: Way) -> None:
    port, name = daemon.get("port", form.ANY_PORT), str(daemon.get("name"))
    if port == form.ANY_PORT:
        walls = look.host.firewalls if look.host else []
        if walls:
            says = f"the daemon {name!r} takes any free port, and {walls[0].name} passes only ports that it is told of"
            look.told("port", says, EDIT, (*way, "port"), True, cause="license-port-not-fixed")
        return
    if not FITS[WHOLE](port):
        return
    if port in ports:
        look.told("duplicate", f"port {port} of the daemon {name!r} is that of {ports[port]} too", EDIT, (*way, "port"))
    ports[port] = f"the daemon {name!r}"
    _check_port(look, port, f"the port of the daemon {name!r},", (*way, "port"))


def _is_key(text: str) -> bool:
    try:
        return len(base64.b64decode(text, validate=True)) == 32
    except ValueError:
        return False


def _check_program(look: FileLook, program: str, name: str, way: Way) -> None:
    if not program.strip():
        look.told("program", f"the program of the daemon {name!r} is empty", EDIT, way, cause="license-daemon-missing")
        return
    wanted = program.replace("\\", "/").casefold()
    files = look.host.files if look.host else []
    seen = next((f for f in files if f.path.replace("\\", "/").casefold() == wanted), None)
    if seen is None:
        return
    if not seen.exists:
        look.told(
            "program",
            f"the program of the daemon {name!r} is not there: {program}",
            EDIT,
            way,
            cause="license-daemon-missing",
        )
    elif seen.kind != "file" or seen.executable is False:
        look.told(
            "program",
            f"the program of the daemon {name!r} is not executable: {program}",
            MACHINE,
            way,
            cause="license-daemon-missing",
        )
