"""``license``: check a license file, serve one, ask a server, sign entitlements, hold seats."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from hollow_chain.cli import common, finding
from hollow_chain.trouble import Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts.host import Host

Server = Annotated[str, typer.Argument(help="HOST or HOST:PORT of a license server.", show_default=False)]


def register(app: typer.Typer) -> None:
    """Add the group of commands."""
    group = typer.Typer(
        no_args_is_help=True, help="Is this license file right; what does a license server say; the stand-in server."
    )
    for command in (check, serve, ask, hold, reload, sign):
        group.command(command.__name__)(command)
    app.add_typer(group, name="license")


def check(
    files: Annotated[
        list[Path],
        typer.Argument(help="License file; further ones are compared with it as copies.", show_default=False),
    ],
    source: common.From = None,
    host: common.HostName = "",
    key: Annotated[
        list[str] | None, typer.Option("--key", help="A publisher's public key: NAME=BASE64.", show_default=False)
    ] = None,
    json: common.Json = False,
) -> int:
    """Find all that is wrong with a license file in one go, for this machine or for a host of a snapshot (--from, --host).

    Each problem with line and column, and whether it can be edited or needs a new file. Exit status 1 if it is not right.
    """
    from datetime import UTC, datetime

    from hollow_chain.license.check import check as look

    datas = {path: _bytes(path) for path in files}
    first = files[0]
    machine, others = _machine(source, host, first)
    copies = {str(path): data for path, data in list(datas.items())[1:]}
    keys = dict(_pair(text) for text in key or ())
    now = (machine.read_at if source else None) or datetime.now(UTC)
    checked = look(datas[first], str(first), machine, now, copies, others, keys)
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.license import check_document

        common.put(to_json(check_document(checked, machine)))
    else:
        from hollow_chain.show.license import show_check
        from hollow_chain.show.page import Page

        show_check(Page(), checked, machine)
    return 0 if checked.right else 1


def _machine(source: common.Source, name: str, file: Path) -> tuple[Host, dict[str, str]]:
    """The machine that the file is for, and the hardware addresses of other known hosts."""
    from hollow_chain.license.compare import plain_id
    from hollow_chain.sources.license_machine import machine_for

    if not source:
        if name:
            raise wrong_call("--host names a host of snapshots; name them with --from")
        return machine_for(file), {}
    from hollow_chain.chain import Graph

    graph = Graph(common.load(source))
    names = finding.hosts_named(graph, name)
    if len(names) != 1:
        raise wrong_call(f"the facts hold {len(names)} hosts; name the license server's with --host")
    others = {
        plain_id(adapter.hardware_address): f"{other.name} (adapter {adapter.name})"
        for other in graph.hosts.values() if other.name != names[0]
        for adapter in other.adapters if adapter.hardware_address
    }  # fmt: skip
    return graph.hosts[names[0]], others


def _bytes(path: Path) -> bytes:
    from hollow_chain.license.file import MAX_BYTES

    try:
        if not path.is_file():
            raise Trouble(f"cannot read {path}: {'it is not a file' if path.exists() else 'no such file'}")
        with path.open("rb") as stream:
            return stream.read(MAX_BYTES + 1)
    except OSError as error:
        raise Trouble(f"cannot read {path}: {(error.strerror or str(error)).lower()}") from None


def _pair(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals or not name or not value:
        raise wrong_call(f"{text!r} is not NAME=VALUE")
    return name, value


def serve(
    file: Annotated[Path, typer.Argument(help="License file.", show_default=False)],
    address: Annotated[str, typer.Option("--address", help="Address to listen on.")] = "127.0.0.1",
    state: Annotated[
        Path | None,
        typer.Option(
            "--state",
            help="Folder for lock and PID files. Default: the service manager's, else beside the file.",
            show_default=False,
        ),
    ] = None,
    log: Annotated[Path | None, typer.Option("--log", help="File to log to as well.", show_default=False)] = None,
    heartbeat: Annotated[
        float, typer.Option("--heartbeat", help="Seconds between heartbeats of clients.", min=0.05, max=3600)
    ] = 30.0,
) -> int:
    """Run the stand-in license server: a front process, and one daemon a publisher. It ends on SIGTERM or Ctrl-C and reloads on SIGHUP.

    Exit status 4 if another one runs, 5 if it cannot listen, 6 if the file cannot be served.
    """  # fmt: skip
    import asyncio
    import os

    from hollow_chain.license.server import Settings
    from hollow_chain.license.server import serve as run
    from hollow_chain.sources.license_machine import this_machine

    given = os.environ.get("RUNTIME_DIRECTORY", "").partition(":")[0]
    folder = state or (Path(given) if given else file.with_name(file.name + ".state"))
    return asyncio.run(run(Settings(file.absolute(), address, folder.absolute(), heartbeat, log, this_machine)))


def _place(server: str) -> tuple[str, int]:
    from hollow_chain.license.asking import PORT

    host, colon, port = server.rpartition(":") if server.count(":") == 1 or server.startswith("[") else (server, "", "")
    if not colon:
        return server.strip("[]"), PORT
    if not (port.isascii() and port.isdigit() and 0 < int(port[:6]) < 65536):
        raise wrong_call(f"{port!r} is no port; name the server as HOST:PORT")
    return host.strip("[]") or "127.0.0.1", int(port)


def ask(
    server: Server,
    want: Annotated[
        list[str] | None,
        typer.Option(
            "--want",
            help="Can this be had now: PRODUCT, with /FEATURE, @VERSION and :SEATS as needed.",
            show_default=False,
        ),
    ] = None,
    seconds: Annotated[float, typer.Option("--wait", help="Seconds to wait for each answer.", min=0.1, max=120)] = 5.0,
    json: common.Json = False,
) -> int:
    """Ask a license server: is it up, is each daemon up and on which port, which seats are free, which file does it serve.

    Exit status 1 if a daemon is down, or something wanted cannot be had.
    """
    from hollow_chain.license import asking

    wants = [_want(text) for text in want or ()]
    host, port = _place(server)
    try:
        told = asking.ask(host, port, seconds)
        answers = [(str(one), *asking.can_have(told, one, seconds)) for one in wants]
    except asking.NoAnswer as error:
        if json:
            from hollow_chain.show.documents import to_json
            from hollow_chain.show.license import silent_document

            common.put(to_json(silent_document(str(error))))
            return 1
        raise Trouble(str(error), 1) from None
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.license import told_document

        common.put(to_json(told_document(told, answers)))
    else:
        from hollow_chain.show.license import show_told
        from hollow_chain.show.page import Page

        show_told(Page(), told, answers)
    well = all(d.get("up") for d in told.daemons) and not told.silent and all(can for _, can, _ in answers)
    return 0 if well else 1


def _want(text: str) -> Any:
    from hollow_chain.license.wire import Want

    try:
        return Want.parsed(text)
    except ValueError as error:
        raise wrong_call(str(error)) from None


def hold(
    server: Server,
    want: Annotated[
        str,
        typer.Option(
            "--want", help="What to take: PRODUCT, with /FEATURE, @VERSION and :SEATS as needed.", show_default=False
        ),
    ],
    seconds: Annotated[
        float, typer.Option("--for", help="Seconds to hold it. Default: until it is ended.", show_default=False)
    ] = 0.0,
) -> int:
    """Take seats from a license server and keep them: a stand-in for an application that needs a license."""
    import os
    import platform
    import signal
    import time

    from hollow_chain.license import asking
    from hollow_chain.license.serving import ENDING, notify

    wanted = _want(want)
    host, port = _place(server)
    ended = False

    def end(*_: object) -> None:
        nonlocal ended
        ended = True

    try:
        told = asking.ask(host, port)
        place = asking.daemon_for(told, wanted)
        if place is None:
            raise Trouble(f"license denied by {host}:{port}: {asking.can_have(told, wanted)[1]}", 1)
        holder = asking.Holder(host, place, f"{platform.node()}/{os.getpid()}")
        holder.take(wanted)
        for number in ENDING:
            signal.signal(number, end)
        common.put(f"holds {wanted} as seat {holder.seat} of {host}:{place}")
        notify("READY=1")
        until = time.monotonic() + seconds if seconds else float("inf")
        beat = time.monotonic() + holder.heartbeat
        while not ended and time.monotonic() < until:
            time.sleep(min(0.2, max(0.0, until - time.monotonic())))
            if time.monotonic() >= beat:
                holder.keep()
                beat = time.monotonic() + holder.heartbeat
        holder.give()
    except asking.NoAnswer as error:
        raise Trouble(f"license denied by {host}:{port}: {error}", 1) from None
    except OSError as error:
        raise Trouble(f"license denied by {host}:{port}: {error.strerror or error}", 1) from None
    return 0


def reload(server: Server) -> int:
    """Have a running license server on this machine read its file anew; says what only a restart would bring."""
    from hollow_chain.license import asking

    host, port = _place(server)
    try:
        found = asking.request(host, port, {"do": "reload"})
    except asking.NoAnswer as error:
        raise Trouble(str(error), 1) from None
    later = [str(one) for one in found.get("restart_for") or ()]
    said = f"{host}:{port}: {found.get('says')}"
    common.put(common.shown(said + (f"; takes a restart: {', '.join(later)}" if later else "")))
    return 0 if found.get("ok") is True and found.get("reloaded") and not later else 1


def sign(
    file: Annotated[
        Path, typer.Argument(help="License file without signatures, or with old ones.", show_default=False)
    ],
    key: Annotated[
        Path,
        typer.Option(
            "--key", help="File with the publisher's private key; made where it is not there.", show_default=False
        ),
    ],
    daemon: Annotated[str, typer.Option("--daemon", help="Whose entitlements to sign.", show_default=False)],
    out: Annotated[
        Path | None, typer.Option("--out", help="File to write. Default: over the first one.", show_default=False)
    ] = None,
) -> int:
    """Sign the entitlements of one publisher: what publishers do, here for demo and test files."""
    from hollow_chain.license.signing import private_key, signed

    try:
        text = signed(_bytes(file).decode("utf-8"), daemon, private_key(key))
    except (ValueError, OSError) as error:
        raise Trouble(f"cannot sign {file}: {error}") from None
    common.write_out(out or file, text.encode())
    common.put(common.shown(f"signed the entitlements of {daemon} in {out or file}"))
    return 0
