"""Hosts over RPC, part by part: what their answers come to whatever they are, as whom they are asked, and their files."""

from __future__ import annotations

import os
import stat
import struct
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

pytest.importorskip("impacket")

import contextlib

from hollow_chain.cli import common
from hollow_chain.mend.marks import is_own, read_mark, text_of_mark
from hollow_chain.reach.address import Address
from hollow_chain.reach.control import Declined, Key
from hollow_chain.reach.far_control import FarControlMachine
from hollow_chain.reach.handles import ForeignLink, NotOpened
from hollow_chain.reach.login import Login, login_for, nobody, password_of, principal_of, split_user, ticket_cache
from hollow_chain.reach.rpc import registry
from hollow_chain.reach.rpc.database import listed
from hollow_chain.reach.rpc.event_logs import records_in
from hollow_chain.reach.rpc.registry import about_key, typed, value_of
from hollow_chain.reach.shares import FileAttributes, Shares, SharesFiles, SharesWalker
from hollow_chain.reach.unreached import Unreached

HERE = Address("rpc", "office-01", "clerk")


def wide(text: str) -> bytes:
    return f"{text}\0".encode("utf-16-le")


def services(*named: tuple[str, str, tuple[int, ...]]) -> bytes:
    """An answer with so many services: records, and their names behind them ([MS-SCMR], 2.2.12)."""
    head, tail, at = b"", b"", 44 * len(named)
    for name, shown_as, numbers in named:
        head += struct.pack("<11I", at + len(tail), at + len(tail) + len(wide(name)), *numbers)
        tail += wide(name) + wide(shown_as)
    return head + tail


def test_a_list_of_services_is_read() -> None:
    data = services(
        ("Tide", "Tide feed", (16, 4, 1, 0, 0, 0, 0, 4711, 0)), ("Desk", "", (32, 1, 0, 1066, 42, 7, 2000, 0, 0))
    )
    tide, desk = listed(data, 2)
    assert (tide.name, tide.shown_as, tide.kind, tide.state, tide.process) == ("Tide", "Tide feed", 16, 4, 4711)
    assert (desk.number, desk.own_number, desk.checkpoint, desk.wait_hint) == (1066, 42, 7, 2000)
    assert len(list(listed(data, 900))) == 2 or all(one.name for one in listed(data, 900))
    assert list(listed(data[:30], 2)) == []


def test_kinds_that_are_none_count_as_none() -> None:
    assert next(iter(listed(services(("Tide", "", (0xFFFFFFFF, 0, 0, 0, 0, 0, 0, 0, 0))), 1))).kind == 0


# What a real server of another make has answered.
START = bytes.fromhex(
    "0c00280014000200140000000000000006000000530074006100720074000000180002000400000"
    "01c000200040000000000000004000000020000002000020004000000240002000400000000000000"
)


def test_a_value_of_the_registry_is_read() -> None:
    assert value_of(START) == ("Start", (4, b"\x02\0\0\0"))
    assert value_of(START[:-4] + struct.pack("<I", 259)) is None
    with pytest.raises(Declined) as declined:
        value_of(START[:-4] + struct.pack("<I", 5))
    assert declined.value.number == 5


def test_values_are_understood_by_their_types() -> None:
    assert typed(1, wide("berth")) == ("berth", 1) and typed(2, wide("%x%")) == ("%x%", 2)
    assert typed(7, wide("a") + wide("b") + b"\0\0") == (["a", "b"], 7) and typed(7, b"\0\0") == ([], 7)
    assert typed(4, b"\x2a\0\0\0") == (42, 4) and typed(3, b"\1\2") == (b"\1\2", 3)


def test_what_is_told_of_a_key() -> None:
    told = about_key(b"\0" * 8 + struct.pack("<10I", 3, 20, 0, 7, 26, 98, 0, 0xD53E8000, 0x019DB1DE, 0))
    assert (told.below, told.values, told.longest_name, told.longest_value) == (3, 7, 26, 98)
    assert told.changed_at == datetime(1970, 1, 1, tzinfo=UTC)
    with pytest.raises(Declined):
        about_key(b"\5\0\0\0")


def record(source: str, number: int, *inserted: str, made: int = 1_700_000_000, kind: int = 1) -> bytes:
    """A record of an event log ([MS-EVEN], 2.2.3)."""
    names = wide(source) + wide("OFFICE")
    texts = b"".join(map(wide, inserted))
    whole = 56 + len(names) + len(texts) + 4
    head = struct.pack(
        "<6I4H6I", whole, 0x654C664C, 1, made, made, number, kind, len(inserted), 0, 0, 0, 56 + len(names), 0, 0, 0, 0
    )
    return head + names + texts + struct.pack("<I", whole)


def test_records_of_an_event_log_are_read() -> None:
    data = record("Service Control Manager", 0xC0001B58, "Tide", "%%2") + record("Tide", 1, kind=4)
    first, second = records_in(data)
    assert (first.source, first.number, first.level, first.inserted) == (
        "Service Control Manager",
        7000,
        "error",
        ["Tide", "%%2"],
    )
    assert first.at == datetime.fromtimestamp(1_700_000_000, UTC) and first.text == "Tide; %%2"
    assert (second.source, second.level, second.text) == ("Tide", "info", "")


@given(st.binary(max_size=400), st.integers(0, 1 << 32))
def test_no_answer_does_more_than_say_nothing(data: bytes, count: int) -> None:
    list(listed(data, count))
    list(records_in(data))
    for read in (value_of, about_key):
        with contextlib.suppress(Declined):
            read(data)


@given(st.data())
def test_no_answer_that_is_nearly_one_does_either(data: st.DataObject) -> None:
    for whole, read in (
        (services(("Tide", "Feed", (16,) * 9)), lambda b: list(listed(b, 3))),
        (record("Tide", 1, "a", "b"), lambda b: list(records_in(b))),
        (START, _or_none(value_of)),
    ):
        at, to = data.draw(st.integers(0, len(whole) - 1)), data.draw(st.integers(0, 255))
        read(whole[:at] + bytes([to]) + whole[at + 1 :])
        read(whole[:at])


def _or_none(read: Callable[[bytes], Any]) -> Callable[[bytes], Any]:
    def tried(data: bytes) -> Any:
        try:
            return read(data)
        except Declined:
            return None

    return tried


# As whom.


def test_users_with_and_without_a_domain() -> None:
    assert split_user(r"FERRY\clerk") == ("FERRY", "clerk")
    assert split_user("clerk@ferry.example") == ("ferry.example", "clerk")
    assert split_user("clerk") == ("", "clerk")


@pytest.mark.parametrize("typed", ["berth-9", ""])
def test_a_password_is_asked_for_once_whatever_is_typed(monkeypatch: pytest.MonkeyPatch, typed: str) -> None:
    asked: list[str] = []
    monkeypatch.setattr(common, "_PASSWORDS", {})
    for stream in (sys.stdin, sys.stderr):
        monkeypatch.setattr(stream, "isatty", lambda: True, raising=False)
    monkeypatch.setattr("getpass.getpass", lambda text, stream: asked.append(text) or typed)
    for _ in range(3):
        if typed:
            assert common.password(HERE, "clerk") == typed
        else:
            with pytest.raises(Unreached, match="no password for clerk"):
                common.password(HERE, "clerk")
    assert asked == ["Password of clerk for office-01: "]


def test_a_login_never_shows_its_password() -> None:
    login = Login("FERRY", "clerk", "berth-9")
    assert "berth-9" not in f"{login} {login!r} {[login]}" and login.shown == r"FERRY\clerk"


def secret(tmp_path: Path, data: bytes, mode: int = 0o600) -> Path:
    path = tmp_path / "password"
    path.write_bytes(data)
    path.chmod(mode)
    return path


def test_a_password_comes_from_a_file_of_its_owner(tmp_path: Path) -> None:
    assert password_of(secret(tmp_path, b"berth 9 \xc3\xa4\r\n")) == "berth 9 ä"
    login = login_for(HERE, tmp_path / "password", nobody)
    assert (login.user, login.password) == ("clerk", "berth 9 ä")


@pytest.mark.skipif(os.name != "posix", reason="modes are those of POSIX")
@pytest.mark.parametrize(
    ("data", "mode", "said"),
    [(b"x\n", 0o644, "mode 0644"), (b"x\n", 0o620, "mode 0620"), (b"", 0o600, "not one line"), (b"a\nb\n", 0o600, "not one line"),
     (b"\xff\xfe", 0o600, "UTF-8"), (b"x" * 2000, 0o600, "not one line")],
)  # fmt: skip
def test_no_other_file_is_taken_for_a_password(tmp_path: Path, data: bytes, mode: int, said: str) -> None:
    with pytest.raises(Unreached, match=said):
        password_of(secret(tmp_path, data, mode))


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="there are no pipes with names")
def test_what_is_no_file_is_no_password_either(tmp_path: Path) -> None:
    with pytest.raises(Unreached, match="cannot be read: no such file"):
        password_of(tmp_path / "nowhere")
    os.mkfifo(tmp_path / "pipe", 0o600)
    with pytest.raises(Unreached, match="no plain file"):
        password_of(tmp_path / "pipe")


def tickets(path: Path, realm: str, *parts: str) -> Path:
    """A cache of Kerberos tickets without tickets."""
    texts = b"".join(struct.pack(">I", len(one)) + one.encode() for one in (realm, *parts))
    path.write_bytes(b"\x05\x04\0\0" + struct.pack(">II", 1, len(parts)) + texts)
    return path


def test_a_ticket_goes_before_a_question(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    cache = tickets(tmp_path / "cache", "FERRY.EXAMPLE", "clerk")
    assert principal_of(str(cache)) == ("FERRY.EXAMPLE", "clerk")
    monkeypatch.setenv("KRB5CCNAME", f"FILE:{cache}")
    assert ticket_cache() == str(cache)
    login = login_for(HERE, None, nobody)
    assert (login.user, login.domain, login.ticket) == ("clerk", "FERRY.EXAMPLE", str(cache))
    # A ticket of somebody else's is not taken for him.
    with pytest.raises(Unreached, match="there is no password for steward"):
        login_for(HERE._replace(user="steward"), None, nobody)
    monkeypatch.setenv("KRB5CCNAME", "KEYRING:persistent:0")
    assert ticket_cache() is None


@given(st.binary(max_size=80))
def test_a_cache_that_is_none(data: bytes) -> None:
    path = Path(os.environ.get("TMPDIR", "/tmp")) / f"cache-{os.getpid()}"
    path.write_bytes(b"\x05\x04" + data)
    try:
        found = principal_of(str(path))
        assert found is None or all(found)
    finally:
        path.unlink()


# Files.


class MadeShares(Shares):
    """Shares of what a dictionary holds: bytes are files, ``None`` a folder, a text where a link leads."""

    def __init__(self, files: dict[str, bytes | str | None]) -> None:
        super().__init__()
        self._files = files

    def drive(self, letter: str) -> None:
        if letter != "C":
            raise Declined(67, "there is no such share")

    def look(self, letter: str, rest: str) -> FileAttributes | None:
        if rest not in self._files:
            return None
        found = self._files[rest]
        kind = 0x400 if isinstance(found, str) else 0x10 if found is None else 0x20
        return FileAttributes(kind, len(found or ""), 1_700_000_000.0)

    def listed(self, letter: str, rest: str) -> list[str]:
        below = f"{rest}\\" if rest else ""
        names = [name[len(below) :].split("\\")[0] for name in self._files if name.startswith(below)]
        return [".", "..", "..\\up", "a/b", *dict.fromkeys(names)]

    def part(self, letter: str, rest: str, begins: int, most: int) -> bytes:
        found = self._files[rest]
        assert isinstance(found, bytes)
        return found[begins : begins + most]


SHARES: dict[str, bytes | str | None] = {
    "Ferry": None, r"Ferry\desk.ini": b"berth 7\n", r"Ferry\old.ini": b"", "Elsewhere": r"C:\Windows", r"Elsewhere\x.ini": b"secret",
}  # fmt: skip


def test_files_behind_shares() -> None:
    walker = SharesWalker(MadeShares(SHARES))
    assert walker.read("c:/Ferry/desk.ini", 100).data == b"berth 7\n"
    assert walker.read(r"C:\Ferry\desk.ini", 2, from_end=True).data == b"7\n"
    assert walker.find(r"C:\Ferry\none.ini").about is None
    about = walker.find("C:\\Ferry").about
    assert about is not None and stat.S_ISDIR(about.st_mode)
    assert walker.names("C:\\") == ["Elsewhere", "Ferry"] and walker.names("D:\\") == []
    with pytest.raises(FileNotFoundError):
        walker.find(r"C:\Nowhere\none.ini")


def test_nothing_is_read_through_a_link() -> None:
    walker = SharesWalker(MadeShares(SHARES), any_link=True)
    for path in (r"C:\Elsewhere\x.ini", "C:\\Elsewhere"):
        assert walker.find(path).through_link
        with pytest.raises(ForeignLink):
            walker.read(path, 10)
        with pytest.raises(ForeignLink):
            SharesWalker(MadeShares(SHARES)).find(path)


@pytest.mark.parametrize(
    "path", ["Ferry", r"\\other\C$\x", r"C:\..\x", r"C:\a*", "C:\\a\nb", "C:\\" + "x" * 5000, r"\\.\pipe\svcctl", ""]
)
def test_what_is_no_path_of_a_drive(path: str) -> None:
    with pytest.raises(NotOpened):
        SharesWalker(MadeShares(SHARES)).find(path)


def test_files_by_their_names_alone() -> None:
    files = SharesFiles(MadeShares(SHARES))
    assert files.exists(r"C:\Ferry\desk.ini") and not files.exists(r"C:\Ferry\no.ini") and not files.exists("D:\\x")
    assert files.is_folder("C:\\Ferry") and not files.is_folder(r"C:\Ferry\desk.ini")
    assert files.matching(r"C:\F*\*.ini") == [r"C:\Ferry\desk.ini", r"C:\Ferry\old.ini"]
    assert files.matching(files.literally(r"C:\F[e]*")) == [] and files.changed(r"C:\Ferry\desk.ini") == 1_700_000_000.0


# The host as a whole.


class MadeDatabase:
    has_all_rights = True


class MadeRegistry:
    """Some keys."""

    def __init__(self, keys: dict[str, dict[str, Any]]) -> None:
        self._keys = keys

    def key(self, path: str) -> Key:
        if path not in self._keys:
            raise Declined(2, "there is no such key")
        return Key({name: (value, 1) for name, value in self._keys[path].items()}, [], None)


class MadeMachine(FarControlMachine):
    """A host that says of itself what it is given."""

    orders = exact_values = None  # type: ignore[assignment]
    is_open = True

    def __init__(self, keys: dict[str, dict[str, Any]], told: tuple[int, int] | None = None) -> None:
        self._told = told
        self.database, self.registry = MadeDatabase(), MadeRegistry(keys)  # type: ignore[assignment]
        self.begin(MadeShares(SHARES), "clerk", "office-01", "number of the server")

    def told_time(self) -> tuple[int, int] | None:
        return self._told

    def close(self) -> None:
        pass


SYSTEM = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion"


def test_a_host_says_what_it_is() -> None:
    machine = MadeMachine(
        {SYSTEM: {"systemroot": r"C:\Windows", "currentversion": "10.0", "currentbuild": "20348"}},
        (1_700_000_000, 60_000),
    )
    assert machine.build == "10.0.20348" and machine.variables()["SystemDrive"] == "C:"
    booted = machine.booted_at()
    assert booted is not None and booted.timestamp() == 1_700_000_000 - 60
    assert machine.drive_kind("C:\\") == "disk" and machine.drive_kind("D:\\") == ""
    assert len(machine.machine) == 32


def test_a_counter_that_began_anew_is_no_moment_of_a_boot() -> None:
    assert MadeMachine({}, (1_700_000_000, 0xFFFFFFFF)).booted_at() is None and MadeMachine({}).booted_at() is None


def test_machines_are_told_apart() -> None:
    number = {r"SOFTWARE\Microsoft\Cryptography": {"machineguid": "1f2e3d4c-0000-1111-2222-333344445555"}}
    assert MadeMachine(number).machine != MadeMachine({}).machine


# Keys that are asked for side by side.


class MadeTalk:
    """Answers for every key; what is asked over it is counted."""

    def __init__(self, session: Any) -> None:
        self.session, self.asked = session, 0

    def check(self) -> None:
        pass

    def key(self, path: str) -> Key:
        self.asked += 1
        if path.endswith("7"):
            raise Declined(2, "there is no such key")
        if self.session == "cut" and self.asked > 3:
            raise Unreached("the connection broke off")
        return Key({"path": (path, 1)}, [], None)


@pytest.mark.parametrize("another", ["whole", "cut", "refused"])
def test_keys_come_whatever_becomes_of_the_sessions_beside(monkeypatch: pytest.MonkeyPatch, another: str) -> None:
    monkeypatch.setattr(registry, "_Talk", MadeTalk)
    logins: list[int] = []

    def one_more() -> Any:
        logins.append(1)
        if another == "refused":
            raise Unreached("it takes no more sessions of this user")
        return another

    keys = registry.RpcRegistry("own", one_more)  # type: ignore[arg-type]
    keys.close = lambda: None  # type: ignore[method-assign]
    paths = [f"key {number}" for number in range(200)]
    keys.expect(paths)
    for path in paths:
        if path.endswith("7"):
            with pytest.raises(Declined):
                keys.key(path)
        else:
            assert keys.key(path).values["path"] == (path, 1)
    assert len(logins) <= 5


# Marks.


def test_a_mark_is_read_back_and_is_of_its_own_mend_only() -> None:
    mark = read_mark(text_of_mark("20260101-1"))
    assert (
        is_own(mark, "20260101-1")
        and not is_own(mark, "20260101-2")
        and not is_own({**mark, "chair": "x"}, "20260101-1")
    )
    assert read_mark(b"[1]") == {} and read_mark(b"\0" * 9) == {} and read_mark(b'{"mend": "a\\u001b[2J"}') == {}
