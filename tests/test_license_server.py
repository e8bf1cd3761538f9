"""The stand-in license server: real processes on 127.0.0.1, seats, reloads, crashes, and whatever comes over the wire."""

from __future__ import annotations

import contextlib
import json
import os
import platform
import signal
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.license import asking, wire
from hollow_chain.license.file import SignedEntitlement
from hollow_chain.license.seats import TAKEN, Denial, SeatBook
from hollow_chain.reach.here import here
from hollow_chain.sources.sockets import adapters
from tests.conftest import PROGRAM, Run

pytestmark = pytest.mark.alone
TODAY = date(2026, 3, 4)
WANT = "suite/routing"


def free_port() -> int:
    with contextlib.closing(socket.socket()) as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def until(holds: Callable[[], Any], seconds: float = 15.0) -> Any:
    """What *holds* gives as soon as it is true; fails where that does not come."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        with contextlib.suppress(asking.NoAnswer, OSError):
            if found := holds():
                return found
        time.sleep(0.05)
    raise AssertionError("it did not come to hold in time")


class Desk:
    """A license file with its server."""

    def __init__(self, folder: Path, run: Run) -> None:
        self.folder, self.run, self.port = folder, run, free_port()
        self.file, self.log = folder / "suite.toml", folder / "server.log"
        own = [a.hardware_address for a in adapters(here().network) if a.hardware_address.replace(":", "").strip("0")]
        self.ids = own[:1] or ["02:00:00:00:00:01"]
        self.process: subprocess.Popen[bytes] | None = None

    def write(self, *entitlements: str, port: int = 0, daemon: str = "") -> None:
        text = (
            f'format = "hollow-chain/license"\nversion = 1\n[server]\nhost = "{platform.node()}"\nhost_ids = {json.dumps(self.ids)}\n'
            f'port = {port or self.port}\n[[daemon]]\nname = "maker"\nprogram = "hollow-chain-license-daemon"\nkey = ""\n{daemon}\n'
        )
        text += "".join(f'[[entitlement]]\ndaemon = "maker"\n{one}\nsignature = ""\n' for one in entitlements)
        self.file.write_text(text)
        assert self.run("license", "sign", self.file, "--key", self.folder / "key", "--daemon", "maker").status == 0

    def start(self, *more: str) -> None:
        call = [*PROGRAM, "license", "serve", str(self.file), "--log", str(self.log), "--heartbeat", "0.3", *more]
        self.process = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until(self.up)

    def up(self) -> bool:
        told = self.told()
        return bool(told.daemons) and all(d["up"] for d in told.daemons)

    def told(self) -> asking.Told:
        return asking.ask("127.0.0.1", self.port)

    def holder(self, want: str = WANT, name: str = "a") -> asking.Holder:
        told = self.told()
        wanted = wire.Want.parsed(want)
        found = asking.Holder("127.0.0.1", asking.daemon_for(told, wanted) or 0, name)
        found.take(wanted)
        return found

    def used(self) -> int:
        return int(self.told().entitlements[0]["used"])

    def stop(self, how: int = signal.SIGTERM) -> int:
        if self.process is None:
            return 0
        self.process.send_signal(how)
        return self.process.wait(15)


@pytest.fixture()
def desk(tmp_path: Path, run: Run) -> Iterator[Desk]:
    made = Desk(tmp_path, run)
    made.write('product = "suite"\nfeature = "routing"\nversion = "7.2"\nseats = 3')
    yield made
    for path in (tmp_path / "suite.toml.state").glob("*.pid"):
        with contextlib.suppress(OSError, ValueError, KeyError):
            os.kill(json.loads(path.read_text())["process"], signal.SIGKILL)
    if made.process is not None and made.process.poll() is None:
        made.process.kill()
        made.process.wait()


def test_seats_are_granted_kept_returned_and_reclaimed(desk: Desk) -> None:
    desk.start()
    first = desk.holder(f"{WANT}:2")
    assert desk.used() == 2
    with pytest.raises(asking.NoAnswer, match=r"2 of 3 seats .* are wanted, 1 are free"):
        desk.holder(f"{WANT}:2", "b")
    first.keep()
    first.give()
    assert desk.used() == 0
    silent = desk.holder(f"{WANT}:3")
    assert desk.used() == 3
    until(lambda: desk.used() == 0)
    with pytest.raises(asking.NoAnswer, match="is lost"):
        silent.keep()
    log = desk.log.read_text()
    for words in ("read ", "front listens on 127.0.0.1:", "daemon maker is up on port", "granted seat 1 (2 of suite/routing@7.2) to a",
                  "denied suite/routing:2 to b", "returned seat 1", "reclaimed seat 2"):  # fmt: skip
        assert words in log
    assert desk.stop() == 0
    assert list((desk.folder / "suite.toml.state").iterdir()) == []


def test_what_a_server_tells(desk: Desk, run: Run) -> None:
    desk.start()
    assert run("license", "check", desk.file).out.endswith("0 wrong, 0 noted, 1 entitlements hold\n")
    place = f"127.0.0.1:{desk.port}"
    document = run("license", "ask", place, "--want", f"{WANT}@7.1", "--json").json
    assert document["answers"]
    assert document["daemons"][0]["up"]
    assert document["entitlements"][0] | {"seats": 3, "used": 0, "free": 3} == document["entitlements"][0]
    assert document["wants"] == [
        {"want": f"{WANT}@7.1", "can": True, "says": f"{WANT}@7.1 can be had now (3 free before it)"}
    ]
    for want, says in (
        (f"{WANT}@8", "goes up to version 7.2"),
        ("suite/tides", "no entitlement"),
        (f"{WANT}:4", "3 are free"),
    ):
        done = run("license", "ask", place, "--want", want)
        assert done.status == 1
        assert says in " ".join(done.out.split())
    desk.process.send_signal(signal.SIGSTOP)  # type: ignore[union-attr]
    done = run("license", "ask", place, "--wait", "0.3")
    desk.process.send_signal(signal.SIGCONT)  # type: ignore[union-attr]
    assert done.status == 1
    assert "no answer" in done.err


def test_a_reload_changes_entitlements_and_tells_what_needs_a_restart(desk: Desk, run: Run) -> None:
    desk.start()
    kept = desk.holder(f"{WANT}:2")
    desk.write(
        'product = "suite"\nfeature = "routing"\nversion = "7.2"\nseats = 9',
        'product = "suite"\nfeature = "tides"\nseats = 1',
    )
    done = run("license", "reload", f"127.0.0.1:{desk.port}")
    assert done.status == 0
    until(lambda: [e["seats"] for e in desk.told().entitlements] == [9, 1])
    assert desk.used() == 2
    kept.keep()
    desk.write('product = "suite"\nseats = 1', port=free_port(), daemon=f"port = {free_port()}")
    done = run("license", "reload", f"127.0.0.1:{desk.port}")
    assert done.status == 1
    assert "takes a restart: the server's port, the port or program of the daemon maker" in done.out
    desk.file.write_text("nonsense")
    desk.process.send_signal(signal.SIGHUP)  # type: ignore[union-attr]
    until(lambda: "reload refused, the old file is served on" in desk.log.read_text())
    assert desk.told().entitlements


def test_a_second_server_refuses_and_left_overs_do_not(desk: Desk, run: Run) -> None:
    desk.start()
    second = run("license", "serve", desk.file)
    assert second.status == 4
    assert f"another license server runs: process {desk.process.pid}" in second.err  # type: ignore[union-attr]
    state = desk.folder / "suite.toml.state"
    daemon = json.loads((state / "daemon-maker.pid").read_text())["process"]
    desk.stop(signal.SIGKILL)
    assert {p.name for p in state.iterdir()} >= {"front.pid", "front.lock", "daemon-maker.pid", "daemon-maker.lock"}
    os.kill(daemon, 0)  # the daemon outlives the front
    call = [*PROGRAM, "license", "serve", str(desk.file), "--log", str(desk.log)]
    desk.process = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until(lambda: "another daemon of maker runs" in desk.log.read_text())
    assert "front.pid was left over: process" in desk.log.read_text()
    os.kill(daemon, signal.SIGKILL)
    until(desk.up)
    assert "daemon-maker.pid was left over" in desk.log.read_text()


def test_a_number_that_was_given_out_anew_is_no_live_server(desk: Desk) -> None:
    state = desk.folder / "suite.toml.state"
    state.mkdir()
    (state / "front.pid").write_text(json.dumps({"process": os.getpid(), "began": 1}))
    desk.start()
    assert f"process {os.getpid()}, which it names, is now another one" in desk.log.read_text()


def test_a_daemon_that_dies_comes_back_and_forgets_its_seats(desk: Desk) -> None:
    desk.start()
    lost = desk.holder()
    mark = json.loads((desk.folder / "suite.toml.state" / "daemon-maker.pid").read_text())
    os.kill(mark["process"], signal.SIGKILL)
    until(lambda: "daemon maker is down: it was ended by SIGKILL" in desk.log.read_text())
    until(desk.up)
    with pytest.raises(asking.NoAnswer):
        lost.keep()
    assert desk.used() == 0
    desk.holder()


@pytest.mark.parametrize(("change", "says", "status"), [
    (lambda t: t.replace(f'host = "{platform.node()}"', 'host = "mole"'), "made out for the host 'mole'", 6),
    (lambda t: "nonsense = [", "cannot be served", 6),
    (lambda t: t.replace('version = 1', 'version = 1\nherring = 1'), "cannot be served", 6),
])  # fmt: skip
def test_a_file_that_cannot_be_served_is_refused_with_its_reason(
    desk: Desk, run: Run, change: Any, says: str, status: int
) -> None:
    desk.file.write_text(change(desk.file.read_text()))
    done = run("license", "serve", desk.file)
    assert done.status == status
    assert says in done.err
    assert "Traceback" not in done.err
    assert run("license", "serve", desk.folder / "none.toml").status == 6


def test_a_taken_port_is_told(desk: Desk, run: Run) -> None:
    with contextlib.closing(socket.create_server(("127.0.0.1", desk.port))):
        done = run("license", "serve", desk.file)
        noted = run("license", "check", desk.file, "--json").json["problems"]
    assert [(p["problem"], p["warning"]) for p in noted] == [("port", True)]
    assert "is held by" in noted[0]["says"]
    assert done.status == 5
    assert f"cannot listen on 127.0.0.1:{desk.port}: Address already in use" in done.err


GARBAGE = {
    "no JSON": b"herring\n", "no object": b"[1]\n", "another version": b'{"v": 99}\n', "deep": b"[" * 60000 + b"\n",
    "a long line": b"x" * (10 << 20), "a long number": b'{"v":1,"do":"take","client":"a","want":{"product":"p","seats":' + b"9" * 5000 + b"}}\n",
}  # fmt: skip
REFUSED: dict[str, dict[str, Any]] = {
    "unknown word": {"do": "format-disk"}, "no word": {}, "a path": {"do": "take", "client": "../../etc", "want": {"product": "/etc/passwd"}},
    "no want": {"do": "take", "client": "a"}, "no client": {"do": "take", "want": {"product": "suite"}}, "seats below one":
    {"do": "take", "client": "a", "want": {"product": "suite", "seats": 0}}, "another's seat": {"do": "give", "client": "b", "seat": 1},
    "a seat that is none": {"do": "keep", "client": "a", "seat": True}, "a reload of a daemon": {"do": "reload"},
}  # fmt: skip


def test_whatever_comes_over_the_wire(desk: Desk) -> None:
    desk.start()
    ports = [desk.port, desk.told().daemons[0]["port"]]
    for port in ports:
        for data in GARBAGE.values():
            with (
                contextlib.closing(socket.create_connection(("127.0.0.1", port), 5)) as channel,
                contextlib.suppress(OSError),
            ):
                channel.sendall(data)
                answer = channel.recv(4096)
                assert not answer or json.loads(answer.partition(b"\n")[0])["ok"] is False
        half = socket.create_connection(("127.0.0.1", port), 5)
        half.sendall(b'{"v": 1, "do": "sta')
        half.close()
    for message in REFUSED.values():
        assert asking.request("127.0.0.1", ports[1], message)["ok"] is False
    assert desk.used() == 0
    assert desk.up()


def test_a_thousand_connections(desk: Desk) -> None:
    desk.start()
    crowd = []
    for _ in range(1000):
        crowd.append(socket.create_connection(("127.0.0.1", desk.port), 5))
    assert desk.up()
    for channel in crowd:
        channel.close()
    assert desk.up()


def test_an_application_holds_and_gives_back(desk: Desk, run: Run) -> None:
    desk.start()
    place = f"127.0.0.1:{desk.port}"
    call = [*PROGRAM, "license", "hold", place, "--want", f"{WANT}:3"]
    with subprocess.Popen(call, stdout=subprocess.PIPE, text=True) as application:
        assert application.stdout is not None
        assert f"holds {WANT}:3 as seat 1" in application.stdout.readline()
        time.sleep(1.2)  # past the time after which silent clients lose their seats
        assert desk.used() == 3
        denied = run("license", "hold", place, "--want", WANT)
        assert denied.status == 1
        assert "license denied by" in denied.err
        application.terminate()
        assert application.wait(10) == 0
    assert desk.used() == 0


@settings(max_examples=100, deadline=None)
@given(st.lists(st.binary(max_size=40), max_size=12))
def test_lines_are_cut_alike_however_they_come(parts: list[bytes]) -> None:
    whole, pieces = wire.Lines(), wire.Lines()

    def fed(lines: wire.Lines, *data: bytes) -> list[Any]:
        found: list[Any] = []
        try:
            for one in data:
                found += lines.feed(one)
        except wire.WireError as error:
            found.append(str(error))
        return found

    good = wire.encode({"id": 1, "do": "status"})
    data = b"".join([good, *parts, good])
    assert fed(whole, data) == fed(pieces, *(data[n : n + 1] for n in range(len(data))))


@settings(max_examples=100, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["take", "give", "wait", "load", "keep"]), st.integers(0, 5), st.integers(1, 3)),
        max_size=40,
    )
)
def test_never_more_seats_than_there_are(moves: list[tuple[str, int, int]]) -> None:
    book, now, most = SeatBook(1.0), 0.0, 4
    book.load([SignedEntitlement(daemon="m", product="p", seats=most, signature="")])
    for move, who, count in moves:
        now += 0.4
        name = f"c{who}"
        if move == "take":
            got = book.take(wire.Want("p", seats=count), name, True, now, TODAY)
            assert not isinstance(got, Denial) or got.error == TAKEN
        elif move == "wait":
            now += 2.0
        elif move == "load":
            most = max(most, count + 3)
            book.load([SignedEntitlement(daemon="m", product="p", seats=most, signature="")])
        for seat in list(book.seats.values()):
            if seat.client == name and move in ("give", "keep"):
                assert book.give(seat.number, name) if move == "give" else book.keep(seat.number, name, now)
        book.reclaim(now)
        used = sum(seat.count for seat in book.seats.values())
        assert book.pools[0].used == used <= most


@contextlib.contextmanager
def reported_up(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """The server, started as a manager does it that waits for its word (sd_notify(3)); it is ended in order."""
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as manager:
        manager.settimeout(30)
        manager.bind(str(desk.folder / "notify"))
        monkeypatch.setenv("NOTIFY_SOCKET", str(desk.folder / "notify"))
        desk.process = subprocess.Popen([*PROGRAM, "license", "serve", str(desk.file), "--log", str(desk.log)])
        assert manager.recv(100) == b"READY=1"
        yield
        assert desk.stop() == 0


def test_it_reports_that_it_is_up_when_its_daemons_are(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    with reported_up(desk, monkeypatch):
        assert desk.up()  # at once: what starts after the server wants seats of its daemons


def test_a_daemon_that_is_not_there_does_not_keep_it_from_reporting(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk.file.write_text(desk.file.read_text().replace("hollow-chain-license-daemon", "/none/daemon"))
    with reported_up(desk, monkeypatch):
        assert not desk.up()
