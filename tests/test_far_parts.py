"""Parts of the way to other hosts that need none: addresses, what a host answers, and many pieces of work that wait side by side."""

from __future__ import annotations

import io
import os
import stat
import subprocess
import tarfile
import time
from concurrent.futures import Future
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.reach.address import Address, BadAddress, parse
from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.machine_id import digest
from hollow_chain.reach.ssh import answers, told
from hollow_chain.reach.ssh.accounts import groups, users
from hollow_chain.reach.ssh.attendant import COMMAND, LISTED
from hollow_chain.reach.ssh.journal import FarJournal
from hollow_chain.reach.ssh.journal_export import records
from hollow_chain.reach.ssh.processes import FarProcesses, pairs
from hollow_chain.reach.ssh.side_by_side import SideBySide
from hollow_chain.sources.many import Interrupted, at_once

ADDRESSES = {
    "ssh://gate-03": Address("ssh", "gate-03"),
    "ssh://support@gate-03:2222": Address("ssh", "gate-03", "support", 2222),
    "ssh://[fe80::1%25eth0]:22": None,
    "ssh://[2001:db8::7]:22": Address("ssh", "2001:db8::7", "", 22),
    "rpc://clerk@office-01": Address("rpc", "office-01", "clerk"),
    "SSH://GATE-03": Address("ssh", "gate-03"),
}


@pytest.mark.parametrize("text", ADDRESSES)
def test_addresses(text: str) -> None:
    if ADDRESSES[text] is not None:
        assert parse(text) == ADDRESSES[text]
        assert parse(str(parse(text))) == ADDRESSES[text]


@pytest.mark.parametrize(
    "text",
    ["ssh://", "ssh://a/b", "ssh://a:0", "ssh://a:99999", "ssh://a:b", "ssh://u:secret@a", "ssh://u:secret@a:99999", "ssh://u:secret@[::1", "ssh://u:secret@a/b",
     "ssh://-oProxyCommand=x", "ssh://-l@a", "rpc://a:445",
     "ftp://a", "ssh://a?b", "ssh://a#b", "ssh://a b", "ssh://" + "a" * 300, "ssh://[::1"],
)  # fmt: skip
def test_what_is_no_address_is_refused(text: str) -> None:
    with pytest.raises(BadAddress) as refused:
        parse(text)
    assert "secret" not in str(refused.value)


@given(st.text(max_size=60))
def test_any_text_is_an_address_or_none(text: str) -> None:
    try:
        found = parse(f"ssh://{text}")
    except BadAddress:
        return
    assert found.host and not found.host.startswith("-") and found.host.isprintable()


HOST = b"""1772604729.5
x86_64
0
4
/usr/bin/systemd-stdio-bridge

/proc/stat:btime 1772600000
/proc/net/tcp:  sl  local_address rem_address   st
/proc/net/tcp:   0: 00000000:1CE8 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 41 1 0
/proc/net/tcp:   1: 0100007F:18EB 0100007F:9999 01 00000000:00000000 00:00000000 00000000     0        0 42 1 0
/proc/net/tcp6:  sl  local_address
/proc/net/tcp6:   0: 00000000000000000000000001000000:0016 00000000000000000000000000000000:0000 0A 0:0 0:0 0 0 0 43 1 0
/proc/net/unix:Num       RefCount Protocol Flags    Type St Inode Path
/proc/net/unix:0000: 00000002 00000000 00010000 0001 01 44 /run/desk socket
/proc/locks:1: POSIX  ADVISORY  WRITE 71 08:01:1234 0 EOF
/proc/71/stat:71 (odd) name)) S 1 71 71 0 -1 4194560 1 0 0 0 0 0 0 0 20 0 1 0 12345 1 1
/proc/71/comm:desk
/proc/71/cmdline:/opt/desk\0--at\0quay\0
/proc/71/cgroup:0::/system.slice/desk.service
/proc/72/cmdline:two\0lines
/proc/72/cmdline:/proc/1/cgroup:0::/forged
/proc/72/stat:72 (x) S
"""


def test_the_first_answer_of_a_host() -> None:
    first = told.read(HOST)
    assert (first.architecture, first.user, first.cores, first.has_bridge) == ("x86_64", 0, 4, True)
    files = first.files
    assert told.processes_of(files) == {71: "/proc/71", 72: "/proc/72"}
    assert told.arguments(files, 71) == ["/opt/desk", "--at", "quay"]
    assert told.began(files, 71) is not None and told.began(files, 72) is None
    assert FileLocks(files["/proc/locks"]).processes == {71}
    assert told.local_sockets(files, {"44": 71}, 10) == {"/run/desk socket": 71}
    found = told.sockets(files, False, {"41": 71}, 10)
    assert [(one.port, one.address, one.protocol, one.process) for one in found] == [
        (7400, "0.0.0.0", "tcp", 71),
        (22, "::1", "tcp6", 0),
    ]


def test_no_process_can_write_a_line_of_another_file() -> None:
    """A command line may hold line ends, and what looks like a line of somebody else's file."""
    files = told.read(HOST).files
    assert "/proc/1/cgroup" not in files
    assert told.arguments(files, 72) == ["two", "lines\n/proc/1/cgroup:0::/forged"]


def test_addresses_of_machines_that_write_the_great_byte_first() -> None:
    assert told.address_of("7F000001", True) == "127.0.0.1"
    assert told.address_of("0100007F", False) == "127.0.0.1"


def test_what_is_no_first_answer_is_refused() -> None:
    for wrong in (b"", b"Welcome to the quay\n", b"1.0\n\n"):
        with pytest.raises((ValueError, IndexError)):
            told.read(wrong)


def _asked(path: str) -> bytes:
    about = os.lstat(path)
    form = f"{about.st_mode:x} {about.st_ino} {about.st_dev} {about.st_nlink} {about.st_uid} {about.st_gid} {about.st_size}"
    moments = " ".join(
        f"{ns // 10**9}.{ns % 10**9:09d}" for ns in (about.st_atime_ns, about.st_mtime_ns, about.st_ctime_ns)
    )
    whole = f"{path} -> {Path(path).readlink()}" if stat.S_ISLNK(about.st_mode) else path
    return f"{form} {moments}\0{path}\0{whole}\0".encode("utf-8", "surrogateescape")


def test_what_stands_at_a_path_is_told_to_the_last_digit(tmp_path: Any) -> None:
    names = ["plain", "two\nlines", "arrow -> nowhere", "\udcff not text"]
    for name in names:
        (tmp_path / name).write_text("x")
    (tmp_path / "link").symlink_to("arrow -> nowhere")
    paths = [f"{tmp_path}/{name}" for name in (*names, "link")]
    found = answers.parsed(b"".join(map(_asked, paths)))
    assert list(found) == paths
    for path in paths:
        assert found[path].about == os.lstat(path)
        assert found[path].about.st_mtime == os.lstat(path).st_mtime
    assert found[paths[-1]].target == "arrow -> nowhere"


@given(st.binary(max_size=400))
def test_any_answer_is_taken(data: bytes) -> None:
    answers.parsed(data)
    answers.contents(data)
    answers.listed_names(data)
    pairs(data)
    list(records(data, 100))
    users(data.decode("utf-8", "replace"))
    groups(data.decode("utf-8", "replace"))
    try:
        first = told.read(HOST + data)
    except ValueError:
        return
    told.sockets(first.files, False, {}, 10)
    told.local_sockets(first.files, {}, 10)
    FileLocks(first.files.get("/proc/locks", ""), first.files.get("/proc/self/mountinfo", ""))


def test_what_lies_in_a_folder_is_told_with_all_that_it_is(tmp_path: Any) -> None:
    (tmp_path / "two\nlines").write_text("x")
    (tmp_path / "deep").mkdir()
    (tmp_path / "led").symlink_to("deep")
    form = f"%h\\0%f\\0{LISTED}\\0%l\\0"
    listed = subprocess.run(
        ["find", "-H", tmp_path, "-mindepth", "1", "-maxdepth", "1", "-printf", form], capture_output=True, check=True
    )
    found = answers.listed_names(listed.stdout)[str(tmp_path)]
    assert sorted(found) == ["deep", "led", "two\nlines"] and found["led"].target == "deep"
    for name in found:
        now = os.lstat(tmp_path / name)
        assert (found[name].about, found[name].about.st_mtime) == (now, now.st_mtime)


def test_contents_come_as_an_archive() -> None:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w") as archive:
        one = tarfile.TarInfo("/etc/desk.conf")
        one.size, one.uid, one.gid, one.mode, one.mtime = 4, 7, 8, 0o640, 1772604729
        archive.addfile(one, io.BytesIO(b"port"))
        link = tarfile.TarInfo("/etc/led")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/shadow"
        archive.addfile(link)
    found = answers.contents(made.getvalue())
    assert set(found) == {"/etc/desk.conf"}
    assert found["/etc/desk.conf"].data == b"port"
    assert found["/etc/desk.conf"].about == (7, 8, stat.S_IFREG | 0o640, 4, 1772604729)
    assert answers.contents(made.getvalue()[:500]) == {}


EXPORT = (
    b"__REALTIME_TIMESTAMP=1772604729000000\nMESSAGE=first\n_SYSTEMD_UNIT=desk.service\n\n"
    b"__REALTIME_TIMESTAMP=1772604730000000\nMESSAGE\n\x0b\0\0\0\0\0\0\0two\n\nlines!\n_SYSTEMD_UNIT=desk.service\n\n"
)


def test_records_of_the_export_format() -> None:
    found = list(records(EXPORT, 100))
    assert [one["MESSAGE"] for one in found] == [["first"], ["two\n\nlines!"]]
    assert list(records(EXPORT[:-30], 100))[1:] in ([], [{"__REALTIME_TIMESTAMP": ["1772604730000000"]}])


class Asked:
    """An attendant that gives one answer, and keeps what it was asked."""

    def __init__(self, answer: bytes) -> None:
        self.answer, self.kinds = answer, []

    def ask(self, kind: str, names: Any = None) -> bytes:
        self.kinds.append((kind, names))
        return self.answer


def test_a_journal_that_was_asked_for_many_at_once_is_not_asked_again() -> None:
    attendant: Any = Asked(EXPORT)
    journal = FarJournal(attendant)
    fits = [{"_SYSTEMD_UNIT": ["desk.service"]}, {"UNIT": ["desk.service"], "_PID": ["1"]}]
    journal.expect(fits)
    found = journal.entries(fits, ("MESSAGE", "_PID"), 1)
    assert [one.fields for one in found] == [{"MESSAGE": "two\n\nlines!", "_PID": ""}]
    assert journal.entries([{"_SYSTEMD_UNIT": ["other.service"]}], ("MESSAGE",), 5)
    assert [kind for kind, _ in attendant.kinds] == ["journal", "journal"]
    assert attendant.kinds[0][1] == ["--lines=4000", "_SYSTEMD_UNIT=desk.service", "+", "UNIT=desk.service", "_PID=1"]


def test_processes_hold_sockets_and_files() -> None:
    attendant: Any = Asked(b"/proc/71/exe\0/opt/desk\0/proc/71/fd/3\0socket:[41]\0/proc/70/fd/3\0socket:[41]\0")
    seen = FarProcesses(told.read(HOST).files, attendant)
    assert seen.holders == {"41": 71}
    assert seen.program(71) == "/opt/desk"
    assert seen.runs(71) and not seen.runs(1)


def test_the_line_that_starts_the_shell_there_holds_no_name() -> None:
    """It is one fixed text, and a shell of any make takes it: what stands between its quotes has none."""
    assert COMMAND.count("'") == 4 and "\n" not in COMMAND


def test_a_machine_is_told_from_others_and_its_id_is_kept() -> None:
    one = digest("0123456789abcdef0123456789abcdef\n", "quay")
    assert len(one) == 32 and "0123" not in one[:4] + "x"
    assert (
        one
        == digest("0123456789abcdef0123456789abcdef", "quay")
        != digest("0123456789abcdef0123456789abcdef", "office")
    )
    assert digest("", "quay") == ""


class Far:
    """A far host: answers come when all that wait have asked."""

    def __init__(self) -> None:
        self.rounds: list[list[str]] = []
        self.side_by_side = SideBySide(self.send)
        self.known: set[str] = set()

    def send(self, questions: Any) -> Future[None]:
        self.rounds.append(sorted(questions))
        self.known.update(questions)
        future: Future[None] = Future()
        future.set_result(None)
        return future

    def look(self, path: str) -> str:
        if path not in self.known:
            self.side_by_side.wait_for_answers([path])
        assert path in self.known
        return path


def test_what_pieces_ask_goes_out_together() -> None:
    far = Far()

    def work(name: str) -> str:
        far.look(f"/{name}")
        inner = far.side_by_side.each(lambda deep: far.look(f"/{name}/{deep}"), ["a", "b"])
        return "".join(inner)

    assert far.side_by_side.each(work, ["x", "y", "z"]) == ["/x/a/x/b", "/y/a/y/b", "/z/a/z/b"]
    assert far.rounds == [["/x", "/y", "/z"], ["/x/a", "/x/b", "/y/a", "/y/b", "/z/a", "/z/b"]]


def test_what_a_piece_raises_is_raised_where_all_were_begun() -> None:
    far = Far()

    def work(name: str) -> str:
        far.look(f"/{name}")
        if name in ("y", "z"):
            raise OSError(name)
        return name

    with pytest.raises(OSError, match="y"):
        far.side_by_side.each(work, ["x", "y", "z"])
    assert far.side_by_side.each(far.look, ["/q"]) == ["/q"]

    def outer(name: str) -> str:
        try:
            return "".join(far.side_by_side.each(work, ["x", name]))
        except OSError as error:
            return f"no {error}"

    assert far.side_by_side.each(outer, ["x", "y"]) == ["xx", "no y"]


@given(st.recursive(st.integers(0, 5), lambda inner: st.lists(inner, max_size=4), max_leaves=30))
def test_any_nest_of_work_gives_what_it_gives_in_turn(tree: Any) -> None:
    far = Far()

    def work(node: Any) -> Any:
        far.look(f"/{node}"[:40])
        return far.side_by_side.each(work, node) if isinstance(node, list) else node

    assert work(tree) == tree


def test_many_pieces_are_bounded_in_time_and_spoil_no_other() -> None:
    def slow() -> str:
        time.sleep(30)
        return "late"

    def broken() -> str:
        raise OSError("no way there")

    seen: list[Any] = []
    work = [("a", lambda: "a"), ("slow", slow), ("broken", broken), ("b", lambda: "b")]
    came = at_once(work, 1, 0.5, lambda well, lost, awaited: seen.append((well, lost, list(awaited))))
    assert [one.found for one in came] == ["a", None, None, "b"]
    assert isinstance(came[1].error, TimeoutError) and str(came[2].error) == "no way there"
    assert (1, 0, ["slow"]) in seen and seen[-1] == (2, 2, [])


def test_ctrl_c_keeps_what_is_there() -> None:
    def tell(well: int, lost: int, awaited: Any) -> None:
        if well == 1:
            raise KeyboardInterrupt

    came = at_once([("a", lambda: "a"), ("b", lambda: time.sleep(30) or "b")], 2, 60, tell)
    assert came[0].found == "a" and isinstance(came[1].error, Interrupted)
