"""License facts of this machine: files that services are given, what their servers answer, and who wants seats of whom."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, date, datetime
from functools import partial
from itertools import pairwise
from pathlib import PurePosixPath
from typing import Any

from hollow_chain.facts.endpoints import is_loopback, plain
from hollow_chain.facts.host import Host
from hollow_chain.facts.license import Entitlement, LicenseFile, LicenseServer, PublisherDaemon
from hollow_chain.facts.service import Claim, SeatWant, Service
from hollow_chain.reach.handles import StatResult, Walker
from hollow_chain.sources.evidence_files import EvidenceReader
from hollow_chain.sources.reading import HostReading

SECONDS = 1.5
"""How long a server may take for an answer: a look at a host must not hang on it."""
_MOST_FILES = 20
"""License files of one host that are read; a host of a publisher may have more, but then each server asks for its own."""
_SERVE, _HOLD = ("license", "serve"), ("license", "hold")
_WITH_VALUE = ("--address", "--state", "--log", "--heartbeat", "--want", "--for")
WANT, SERVER = "LICENSE_WANT=", "LICENSE_SERVER="
"""Environment in which a definition may say what seats its service wants, and of which HOST:PORT."""


Open = Callable[[str, int], tuple[bytes, StatResult]]
"""What opens a file: a path and a number of bytes to the content up to there, and what the file is. Raises :class:`OSError`."""


def any_file(walker: Walker, path: str, most: int) -> tuple[bytes, StatResult]:
    """What opens a file whoever it belongs to, since whoever runs the program has named it."""
    content = walker.read(path, most)
    return content.data, content.about


def _of_service(reader: EvidenceReader, service: Service, path: str, most: int) -> tuple[bytes, StatResult]:
    content, _ = reader.content(service, path, most, from_end=False)
    return content.data, content.about


def add(reading: HostReading) -> None:
    """License files, servers and wants."""
    fill(reading.host, reading.evidence)


def fill(host: Host, reader: EvidenceReader) -> None:
    """Put license files, servers and wants into the facts of a host."""
    known = [s for s in host.services if s.kind == "service" and s.program is not None and s.program.arguments]
    for service in known:
        opens = partial(_of_service, reader, service)
        path = _file_of(service.program.arguments if service.program else [], opens)
        if path:
            _add_server(host, service, path, opens, reader)
    for service in known:  # once all servers are known
        service.seats += _wants(host, service)


def _after(arguments: list[str], words: tuple[str, str]) -> list[str] | None:
    """The plain arguments behind two words that follow each other; None where they do not."""
    for at in range(len(arguments) - 1):
        if tuple(arguments[at : at + 2]) == words:
            return list(_plain_ones(arguments[at + 2 :]))
    return None


def _plain_ones(arguments: list[str]) -> Iterator[str]:
    skip = False
    for word in arguments:
        if not skip and not word.startswith("-"):
            yield word
        skip = word in _WITH_VALUE


def _option(arguments: list[str], name: str) -> list[str]:
    """The values of an option."""
    found = [value for option, value in pairwise(arguments) if option == name]
    return found + [word.partition("=")[2] for word in arguments if word.startswith(f"{name}=")]


def _file_of(arguments: list[str], opens: Open) -> str:
    """The license file that a service is given; empty where it is given none."""
    behind = _after(arguments, _SERVE)
    if behind:
        return behind[0]
    from hollow_chain.license.file import SUFFIX

    for word in arguments[1:]:
        if word.startswith("/") and word.endswith(SUFFIX) and _is_license(word, opens):
            return word
    return ""


def _is_license(path: str, opens: Open) -> bool:
    from hollow_chain.license.file import MAX_BYTES, is_license

    try:
        return is_license(opens(path, MAX_BYTES)[0][:4096])
    except OSError:
        return False


def _add_server(host: Host, service: Service, path: str, opens: Open, reader: EvidenceReader) -> None:
    walker = reader.walker
    file = read_file(path, opens, walker)
    known = {f.path for f in host.license_files}
    if file.path not in known and len(known) < _MOST_FILES:
        host.license_files.append(file)
        host.license_files += [read_file(copy, opens, walker) for copy in file.copies[:5] if copy not in known]
    server = LicenseServer(service=service.name, file=path, port=file.port)
    if file.port:
        service.claims.append(Claim(port=file.port, source=f"license file {path}"))
    # Of another host an address such as 127.0.0.1 would be this machine's own.
    if service.state == "running" and reader.reached.is_here:
        _ask(
            server, next(iter(_option(service.program.arguments if service.program else [], "--address")), "127.0.0.1")
        )
    host.license_servers.append(server)


def _ask(server: LicenseServer, address: str) -> None:
    """Add what the running server answers."""
    from hollow_chain.license import asking

    try:
        told = asking.ask("127.0.0.1" if address in ("0.0.0.0", "::", "") else address, server.port or 0, SECONDS)
    except asking.NoAnswer:
        server.answers = False
        return
    server.answers = True
    server.served_digest = str(told.status.get("digest") or "")
    server.served_at = _moment(told.status.get("read_at"))
    for daemon in told.daemons:
        name, port = str(daemon.get("name")), daemon.get("port")
        says = told.silent.get(name) or str(daemon.get("says") or "")
        up = bool(daemon.get("up")) and name not in told.silent
        server.daemons.append(
            PublisherDaemon(name=name, up=up, port=port if isinstance(port, int) else None, says=says[:300])
        )
    server.entitlements = [
        Entitlement(
            product=str(e.get("product")), feature=str(e.get("feature") or ""), version=str(e.get("version") or ""),
            seats=_whole(e.get("seats")), used=_whole(e.get("used")), daemon=str(e.get("daemon")),
        )
        for e in told.entitlements
    ]  # fmt: skip


def _whole(value: Any) -> int | None:
    return value if isinstance(value, int) and not isinstance(value, bool) else None


def read_file(path: str, opens: Open, walker: Walker) -> LicenseFile:
    """What is to be known of one license file, right or not."""
    import tomllib

    from hollow_chain.license import file as form

    found = LicenseFile(path=path)
    try:
        data, about = opens(path, form.MAX_BYTES + 1)
        data = data if len(data) <= form.MAX_BYTES else b""
    except OSError as error:
        found.exists = not isinstance(error, FileNotFoundError)
        found.error = "" if not found.exists else (error.strerror or "not readable").lower()
        found.near_files = _beside(PurePosixPath(path), opens, walker) if not found.exists else []
        return found
    found.digest, found.changed_at = form.digest(data), datetime.fromtimestamp(about.st_mtime, UTC)
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        found.error = "it is saved as UTF-16"
    try:
        _fill(found, tomllib.loads(form.text_of(data)))
    except (ValueError, RecursionError) as error:
        found.error = found.error or str(error)[:200]
    return found


def _beside(place: PurePosixPath, opens: Open, walker: Walker) -> list[str]:
    """License files in the folder of an absent one, or named like it without its extension."""
    names = [PurePosixPath(name) for name in walker.names(str(place.parent), 200)]
    near = [name for name in names if name.name.startswith(place.stem) or name.suffix == place.suffix]
    return [path for path in (str(place.parent / name) for name in near) if _is_license(path, opens)][:5]


def _fill(found: LicenseFile, document: dict[str, Any]) -> None:
    from hollow_chain.license import file as form

    server = document.get("server")
    if isinstance(server, dict):
        found.server_host = str(server.get("host") or "")
        found.host_ids = [str(i) for i in _listed(server.get("host_ids"))]
        port = _whole(server.get("port"))
        found.port = port if port is not None and 0 < port < 65536 else None
        found.copies = [str(c) for c in _listed(server.get("copies"))]
    keys: dict[str, str] = {}
    for daemon in _tables(document, "daemon"):
        port = _whole(daemon.get("port"))
        name = str(daemon.get("name"))
        keys[name] = str(daemon.get("key"))
        fixed = port if port is not None and 0 < port < 65536 else None
        found.daemons.append(PublisherDaemon(name=name, program=_program(str(daemon.get("program") or "")), port=fixed))
    for table in _tables(document, "entitlement"):
        found.entitlements.append(
            Entitlement(
                product=str(table.get("product")), feature=str(table.get("feature") or ""), version=str(table.get("version") or ""),
                seats=_whole(table.get("seats")), starts_at=_day(table.get("from")), ends_at=_day(table.get("until")),
                issued_at=_day(table.get("issued")), host_bound=table.get("bound_to") == form.TO_HOST,
                daemon=str(table.get("daemon")),
                signature_holds=_holds(table, found.host_ids, keys.get(str(table.get("daemon")), "")),
            )
        )  # fmt: skip


def _holds(table: dict[str, Any], host_ids: list[str], key: str) -> bool | None:
    """Whether a signature holds; None where nothing here can check it."""
    from hollow_chain.license.file import holds
    from hollow_chain.trouble import Trouble

    try:
        return holds(table, host_ids, key)
    except Trouble:
        return None


def _program(program: str) -> str:
    """A program's path, where the name alone is not one."""
    if "/" in program or not program:
        return program
    from hollow_chain.license.server import find_program

    return find_program(program) or program


def _listed(value: Any) -> list[Any]:
    return value[:50] if isinstance(value, list) else []


def _tables(document: dict[str, Any], name: str) -> Iterable[dict[str, Any]]:
    return (
        [one for one in (document.get(name) or [])[:1000] if isinstance(one, dict)]
        if isinstance(document.get(name), list)
        else []
    )


def _day(value: Any) -> datetime | None:
    return datetime(value.year, value.month, value.day, tzinfo=UTC) if isinstance(value, date) else None


def _moment(value: Any) -> datetime | None:
    try:
        found = datetime.fromisoformat(str(value).replace("Z", "+00:00"))
    except ValueError:
        return None
    return found if found.tzinfo else None


def _wants(host: Host, service: Service) -> list[SeatWant]:
    """What seats a service wants, by its arguments or its environment."""
    from hollow_chain.license.wire import Want

    program = service.program
    arguments = program.arguments if program else []
    behind = _after(arguments, _HOLD)
    servers, wants = (behind[:1], _option(arguments, "--want")) if behind else ([], [])
    for setting in program.environment if program else ():
        wants += [setting.removeprefix(WANT)] if setting.startswith(WANT) else []
        servers += [setting.removeprefix(SERVER)] if setting.startswith(SERVER) else []
    found: list[SeatWant] = []
    for text in wants[:20] if servers else ():
        try:
            want = Want.parsed(text)
        except ValueError:
            continue
        name, port = _server_place(servers[0])
        local = name in ("", "localhost", host.name) or is_loopback(name) or plain(name) in map(plain, host.addresses)
        found.append(
            SeatWant(
                product=want.product, feature=want.feature, version=want.version, seats=want.seats, port=port,
                host="" if local else name, server=_service_at(host, port) if local else "",
            )
        )  # fmt: skip
    return found


def _server_place(text: str) -> tuple[str, int]:
    from hollow_chain.license.asking import PORT

    name, colon, port = text.rpartition(":")
    return (
        (name.strip("[]"), int(port))
        if colon and port.isdigit() and len(port) < 6 and int(port) < 65536
        else (text, PORT)
    )


def _service_at(host: Host, port: int) -> str:
    """The license server of this machine that is given a file with that port."""
    return next((s.service for s in host.license_servers if s.port in (port, None)), "")
