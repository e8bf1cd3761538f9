"""A trace of calls read and weighed: recorded ones, and any text at all."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.facts.observed import Observation, ObservedCall, Outcome
from hollow_chain.observing import watching
from hollow_chain.observing.along import Along, names_in, seen_along
from hollow_chain.observing.call_table import CALLS
from hollow_chain.observing.course import Course
from hollow_chain.observing.last_read import is_of_every_program, last_read
from hollow_chain.observing.missing import missed
from hollow_chain.observing.story import told
from hollow_chain.observing.trace_text import (
    TracedCall,
    TracedEnd,
    TracedSignal,
    TraceReader,
    path_of_descriptor,
    split,
    unescaped,
    unquoted,
)
from hollow_chain.observing.weighing import asked_again, signatures, weighed
from hollow_chain.wording.observed import LIKELY, SURE, records_of, said

RECORDED = Path(__file__).parent / "recorded/traces"


def one(line: str) -> object:
    return TraceReader().read(line)


@pytest.mark.parametrize(
    ("line", "name", "arguments", "value", "error"),
    [
        ('7 1.5 openat(AT_FDCWD</srv>, "a b", O_RDONLY) = -1 ENOENT (No such file or directory)', "openat",
         ("AT_FDCWD</srv>", '"a b"', "O_RDONLY"), -1, "ENOENT"),
        ('7 1.5 openat(AT_FDCWD</>, "/x,\\")(", O_RDONLY) = 3</x,")(>', "openat", ("AT_FDCWD</>", '"/x,\\")("', "O_RDONLY"), 3, ""),
        ('7 1.5 bind(4<socket:[12]>, {sa_family=AF_INET, sin_port=htons(80), sin_addr=inet_addr("0.0.0.0")}, 16) = -1 EACCES (Permission denied)',
         "bind", ("4<socket:[12]>", '{sa_family=AF_INET, sin_port=htons(80), sin_addr=inet_addr("0.0.0.0")}', "16"), -1, "EACCES"),
        ("7 1.5 fcntl(3</run/a>, F_SETLK, {l_type=F_WRLCK, l_whence=SEEK_SET, l_start=0, l_len=0}) = -1 EAGAIN (Resource temporarily unavailable)",
         "fcntl", ("3</run/a>", "F_SETLK", "{l_type=F_WRLCK, l_whence=SEEK_SET, l_start=0, l_len=0}"), -1, "EAGAIN"),
        ("7 1.5 fcntl(4</x>, F_GETFL) = 0x8001 (flags O_WRONLY|O_LARGEFILE)", "fcntl", ("4</x>", "F_GETFL"), 0x8001, ""),
        ("7 1.5 getuid()        = 0", "getuid", (), 0, ""),
        ("7 1.5 clone(child_stack=NULL, flags=CLONE_CHILD_SETTID|SIGCHLD, child_tidptr=0x7f) = 492", "clone",
         ("child_stack=NULL", "flags=CLONE_CHILD_SETTID|SIGCHLD", "child_tidptr=0x7f"), 492, ""),
    ],
)  # fmt: skip
def test_a_line_is_one_call(line: str, name: str, arguments: tuple[str, ...], value: int, error: str) -> None:
    found = one(line)
    assert isinstance(found, TracedCall)
    assert (found.process, found.name, found.arguments, found.value, found.error) == (7, name, arguments, value, error)


def test_ends_and_signals() -> None:
    assert one("9 2.0 +++ exited with 3 +++") == TracedEnd(9, 2.0, 3)
    assert one("9 2.0 +++ killed by SIGSYS (core dumped) +++") == TracedEnd(9, 2.0, None, "SIGSYS")
    line = "9 2.0 --- SIGSYS {si_signo=SIGSYS, si_code=SYS_SECCOMP, si_call_addr=0x7f, si_syscall=__NR_mkdir, si_arch=AUDIT_ARCH_X86_64} ---"
    assert one(line) == TracedSignal(9, 2.0, "SIGSYS", "mkdir")


def test_a_call_that_others_come_between_is_told_when_it_returns() -> None:
    reader = TraceReader()
    assert (
        reader.read('5 1.0 connect(3<socket:[1]>, {sa_family=AF_UNIX, sun_path="/run/x"}, 110 <unfinished ...>') is None
    )
    assert isinstance(reader.read("6 1.1 getuid() = 0"), TracedCall)
    found = reader.read("5 1.2 <... connect resumed>) = -1 ECONNREFUSED (Connection refused)")
    assert isinstance(found, TracedCall) and (found.at, found.ended, found.error) == (1.0, 1.2, "ECONNREFUSED")
    assert reader.unfinished() == []


def test_what_was_cut_by_a_signal_is_told_as_never_returned() -> None:
    reader = TraceReader()
    reader.read('5 1.0 openat(AT_FDCWD</>, "/srv/pipe", O_RDONLY <unfinished ...>')
    reader.read("5 9.0 <... openat resumed> <unfinished ...>) = ?")
    reader.read("8 1.0 flock(3</run/lock>, LOCK_EX <unfinished ...>")
    reader.read("8 9.0 +++ killed by SIGTERM +++")
    assert [(call.name, call.process) for call in reader.unfinished()][-1] == ("flock", 8)


def test_texts_come_back_as_they_were() -> None:
    assert unquoted('"/a\\tb\\"\\\\\\303\\266"') == '/a\tb"\\\u00f6'
    assert unquoted("NULL") is None and unquoted('"') is None
    assert unescaped("\\x41\\0") == "A\0"
    assert path_of_descriptor("3</srv/a \\74b\\76>") == "/srv/a <b>"
    assert path_of_descriptor("3<socket:[5]>") == "" and path_of_descriptor("AT_FDCWD</srv>") == "/srv"


ANY_LINE = st.one_of(
    st.text(max_size=80),
    st.builds(
        lambda number, name, arguments, result: f"{number} 1.25 {name}({arguments}{result}",
        st.integers(1, 9),
        st.sampled_from([*sorted(CALLS), "exit_group", "<... openat resumed>"]),
        st.text(alphabet='"\\<>{}[](),=/abA_0 \n', max_size=40),
        st.sampled_from([") = 0", ") = -1 ENOENT (No", " <unfinished ...>", ") = ?", ") = 3</x>", "", ") = 7"]),
    ),
    st.sampled_from(["3 1.0 +++ exited with 1 +++", "4 1.0 +++ killed by SIGKILL +++", "5 2.0 --- SIGTERM {} ---"]),
)


@settings(max_examples=300, deadline=None)
@given(st.lists(ANY_LINE, max_size=40))
def test_any_text_is_read_without_harm(lines: list[str]) -> None:
    story = told(lines, "a.service", ["/bin/a"], [3, 4, 5])
    calls = weighed(story, frozenset(), True)
    assert sum(call.weight for call in calls) <= 1.0
    assert all(0 <= call.weight <= 1 for call in calls)
    assert not signatures(story) or story.lives


@given(st.text(alphabet='"\\<>{}[](),a1', max_size=60))
def test_arguments_are_split_without_loss(text: str) -> None:
    found, close = split(text, 0)
    assert 0 <= close <= len(text) + 2
    assert len(found) <= 40


class Expected(msgspec.Struct):
    """What a recorded trace is of."""

    unit: str
    programs: list[str]
    name: str
    error: str
    thing: str
    failed: bool = True


@pytest.mark.parametrize("path", sorted(RECORDED.glob("*.json")), ids=lambda path: path.stem)
def test_recorded_traces(path: Path) -> None:
    expected = msgspec.json.decode(path.read_bytes(), type=Expected)
    story = told(path.with_suffix(".trace").read_text("latin-1").split("\n"), expected.unit, expected.programs)
    found = weighed(story, frozenset(), expected.failed)[0]
    assert (found.name, found.error, found.thing) == (expected.name, expected.error, expected.thing)
    assert found.weight >= 0.5


def test_what_fails_in_good_starts_too_is_left_out() -> None:
    line = '7 1.{} openat(AT_FDCWD</srv>, "{}", O_RDONLY) = -1 ENOENT (No such file or directory)'
    lines = [
        '7 1.0 execve("/bin/a", [""...], 0x7f) = 0',
        line.format(1, "chart"),
        line.format(2, "plan-12"),
        "7 1.9 +++ exited with 1 +++",
    ]
    story = told(lines, "a.service", ["/bin/a"])
    assert [call.thing for call in weighed(story, frozenset(), True)][:1] == ["/srv/plan-12"]
    good = told([lines[0], line.format(2, "plan-7")], "a.service", ["/bin/a"])
    assert [call.thing for call in weighed(story, frozenset(signatures(good)), True)][:1] == ["/srv/chart"]


def test_what_is_sought_in_its_own_folder_for_data_is_meant_more_than_elsewhere() -> None:
    # A folder that every machine has, under the name of a service.
    own, other = "/var/lib/dpkg/quay", "/var/lib/misc/quay"
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        *(
            f'40 1.1 newfstatat(AT_FDCWD</>, "{path}", 0x7ffc, 0) = -1 ENOENT (No such file or directory)'
            for path in (own, other)
        ),
        "40 1.6 +++ exited with 1 +++",
    ]
    story = told(lines, "dpkg.service", ["/opt/a"])
    found = missed(story, names_in("dpkg.service", {}))
    assert found == {own: "own_data"}
    assert weighed(story, frozenset(), True, found)[0].thing == own


@pytest.mark.parametrize(
    ("path", "is_part"),
    [
        ("/opt/a/node_modules/b/package.json", True), ("/opt/a/lib.py", True), ("/etc/a/settings.js", False),
        ("/etc/a/a.conf.py", False), ("/opt/a/site-packages/b.cfg", True), ("/srv/a/table.json", False),
    ],
)  # fmt: skip
def test_settings_in_a_language_are_no_parts_of_a_program(path: str, is_part: bool) -> None:
    assert is_of_every_program(path) == is_part


@pytest.mark.parametrize("broken", ["modules/chart.so", "current/bin/a.conf"])
def test_what_a_link_says_should_be_there_is_missed(tmp_path: Path, broken: str) -> None:
    (tmp_path / "modules").mkdir()
    (tmp_path / "modules" / "chart.so").symlink_to(tmp_path / "chart-9.so")
    (tmp_path / "current").symlink_to("release-7")
    seek = '7 1.{} openat(AT_FDCWD</srv>, "{}", O_RDONLY) = -1 ENOENT (No such file or directory)'
    read = '7 1.{} openat(AT_FDCWD</srv>, "/etc/b", O_RDONLY) = 3</etc/b>'
    lines = [
        '7 1.0 execve("/bin/a", [""...], 0x7f) = 0',
        seek.format(1, tmp_path / broken),
        seek.format(2, "/usr/lib/a/chart-2.so"),
        seek.format(3, tmp_path / "gone" / "x"),
        *(read.format(at) for at in range(4, 8)),
        "7 1.9 +++ exited with 1 +++",
    ]
    story = told(lines, "a.service", ["/bin/a"])
    assert missed(story, ()) == {f"{tmp_path}/{broken}": "broken_link"}
    found = weighed(story, frozenset(), True, missed(story, ()))
    without = weighed(story, frozenset(), True)
    assert found[0].thing == f"{tmp_path}/{broken}" and found[0].weight > 0.6
    assert next(one.weight for one in without if one.thing == found[0].thing) < 0.5


def test_a_name_that_no_file_can_have_is_no_link() -> None:
    line = f'7 1.1 openat(AT_FDCWD</srv>, "/srv/{"a" * 300}", O_RDONLY) = -1 ENOENT (No such file or directory)'
    lines = ['7 1.0 execve("/bin/a", [""...], 0x7f) = 0', line, "7 1.9 +++ exited with 1 +++"]
    assert not missed(told(lines, "a.service", ["/bin/a"]), ())


def test_an_observation_is_part_of_the_facts() -> None:
    from hollow_chain.facts.codec import decode, encode
    from hollow_chain.facts.host import Host, snapshot

    at = datetime(2031, 3, 4, 6, 12, tzinfo=UTC)
    seen = Observation("a.service", at, calls=[ObservedCall("openat", "open", "/srv/x", "EACCES", at, weight=0.9)])
    host = Host(name="quay-01", observed=[seen])
    assert decode(encode(snapshot([host]))).hosts[0].observed == [seen]


@pytest.mark.parametrize(
    ("outcome", "error"), [("[ECONNREFUSED]", "ECONNREFUSED"), ("[111]", "ECONNREFUSED"), ("[0]", "")]
)
def test_what_came_of_a_connection_that_was_not_waited_for(outcome: str, error: str) -> None:
    address = '{sa_family=AF_INET, sin_port=htons(5433), sin_addr=inet_addr("10.0.0.7")}'
    story = told(
        [
            '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
            f"40 1.1 connect(3<socket:[9]>, {address}, 16) = -1 EINPROGRESS (Operation now in progress)",
            "40 1.2 getsockopt(3<socket:[9]>, SOL_SOCKET, SO_TYPE, [1], [4]) = 0",
            f"40 1.3 getsockopt(3<socket:[9]>, SOL_SOCKET, SO_ERROR, {outcome}, [4]) = 0",
            "40 1.4 +++ exited with 7 +++",
        ],
        "a.service",
        ["/opt/a"],
    )
    found = [one for one in weighed(story, frozenset(), True) if one.kind == "connect"]
    assert [(one.error, one.thing, one.name) for one in found] == (
        [(error, "10.0.0.7:5433", "connect")] if error else []
    )
    assert not found or found[0].weight > 0.5
    assert ("10.0.0.7:5433" in story.lives[40].succeeded) == (not error)


def test_a_step_whose_failure_stops_nothing_is_not_why_the_start_ended() -> None:
    lines = [
        '1 1.0 clone(child_stack=NULL, flags=SIGCHLD) = 2',
        '2 1.1 openat(AT_FDCWD, "/sys/fs/cgroup/system.slice/a.service/cgroup.procs", O_WRONLY) = 3</sys/fs/cgroup>',
        '2 1.2 execve("/bin/mkdir", ["mkdir"], 0x1) = 0',
        '2 1.3 mkdir("/run/a", 0777) = -1 EACCES (Permission denied)',
        '2 1.4 +++ exited with 1 +++',
        '1 1.5 clone(child_stack=NULL, flags=SIGCHLD) = 3',
        '3 1.6 openat(AT_FDCWD, "/sys/fs/cgroup/system.slice/a.service/cgroup.procs", O_WRONLY) = 3</sys/fs/cgroup>',
        '3 1.7 execve("/bin/a", ["a"], 0x1) = 0',
        '3 1.8 openat(AT_FDCWD, "/srv/a.db", O_RDONLY) = -1 ENOENT (No such file or directory)',
        '3 1.9 +++ exited with 1 +++',
    ]  # fmt: skip
    story = told(lines, "a.service", ["/bin/mkdir", "/bin/a"], (), 2, ["/bin/mkdir"])
    assert [call.thing for call in weighed(story, frozenset(), True)][:1] == ["/srv/a.db"]
    strict = told(lines[:5], "a.service", ["/bin/mkdir", "/bin/a"], (), 2)
    assert [call.thing for call in weighed(strict, frozenset(), True)][:1] == ["/run/a"]


def test_what_another_service_runs_with_the_same_program_is_not_its_own() -> None:
    group = 'openat(AT_FDCWD, "/sys/fs/cgroup/system.slice/{}/cgroup.procs", O_WRONLY) = 3</sys/fs/cgroup>'
    lines = [
        "1 1.0 clone(child_stack=NULL, flags=SIGCHLD) = 2",
        f"2 1.1 {group.format('b.service')}",
        '2 1.2 execve("/usr/bin/python3", ["python3"], 0x1) = 0',
        "2 1.3 clone(child_stack=NULL, flags=SIGCHLD) = 4",
        '4 1.4 execve("/usr/bin/python3", ["python3"], 0x1) = 0',
        '4 1.5 openat(AT_FDCWD, "/srv/of-b", O_RDONLY) = -1 ENOENT (No such file or directory)',
        "1 1.6 clone(child_stack=NULL, flags=SIGCHLD) = 3",
        f"3 1.7 {group.format('a.service/inner')}",
        '3 1.8 execve("/usr/bin/python3", ["python3"], 0x1) = 0',
        '3 1.9 openat(AT_FDCWD, "/srv/of-a", O_RDONLY) = -1 ENOENT (No such file or directory)',
        "3 2.0 +++ exited with 1 +++",
    ]  # fmt: skip
    for unit, thing, number in (("a.service", "/srv/of-a", {3}), ("b.service", "/srv/of-b", {2, 4})):
        story = told(lines, unit, ["/usr/bin/python3"])
        assert set(story.lives) == number
        assert [call.thing for call in weighed(story, frozenset(), True)] == [thing]


RAN, NOT_YET = b"2", b"1"


@pytest.mark.parametrize(
    ("unit", "hard", "above", "came"),
    [
        ({"ActiveState": "failed", "Result": "exit-code"}, True, "failed", "failed"),
        ({"ActiveState": "failed", "Result": "exit-code"}, False, "failed", "failed"),
        ({"ActiveState": "failed", "Result": "exit-code"}, True, "up", None),
        ({"ActiveState": "failed", "Result": "exit-code", "InvocationID": NOT_YET}, True, "failed", None),
        ({"ActiveState": "activating", "SubState": "auto-restart", "Result": "exit-code"}, True, "not-up", "failed"),
        ({"ActiveState": "inactive", "Result": "success", "Type": "simple"}, True, "failed", "ended"),
        ({"ActiveState": "inactive", "Result": "success", "Type": "simple"}, False, "failed", None),
        ({"ActiveState": "inactive", "Result": "success", "Type": "oneshot"}, True, "failed", None),
        ({"ActiveState": "active", "Result": "success"}, True, "failed", None),
        ({"ActiveState": "activating", "Result": "success"}, True, "failed", None),  # it is only slow
        ({"ActiveState": "activating", "Result": "success"}, True, "not-up", "not-up"),
    ],
)
def test_what_came_of_a_service_that_a_start_took_along(
    unit: dict[str, object], hard: bool, above: Outcome, came: Outcome | None
) -> None:
    one = Along("b.service", {"InvocationID": RAN, **unit}, hard, NOT_YET)
    assert one.came_to(above) == came


def test_a_service_that_came_along_is_told_by_its_own_calls() -> None:
    group = 'openat(AT_FDCWD, "/sys/fs/cgroup/system.slice/b.service/cgroup.procs", O_WRONLY) = 3</sys/fs/cgroup>'
    lines = [
        "1 1.0 clone(child_stack=NULL, flags=SIGCHLD) = 2",
        f"2 1.1 {group}",
        '2 1.2 execve("/bin/b", ["b"], 0x1) = 0',
        '2 1.3 openat(AT_FDCWD, "/srv/b.db", O_RDONLY) = -1 EACCES (Permission denied)',
        "2 1.4 +++ exited with 1 +++",
    ]
    one = Along("b.service", {"ActiveState": "failed", "Result": "exit-code", "InvocationID": RAN}, True, NOT_YET)
    at = datetime(2031, 3, 4, 6, 12, tzinfo=UTC)
    seen = seen_along(one, "failed", at, 2.0, lines, True)
    assert seen is not None and (seen.service, seen.outcome, seen.calls[0].thing) == (
        "b.service",
        "failed",
        "/srv/b.db",
    )
    blind = seen_along(one, "failed", at, 2.0, [], False)
    assert blind is not None and (blind.calls, blind.traced) == ([], False)
    assert seen_along(one, "up", at, 2.0, lines, True) is None


def test_who_falls_back_on_another_place_does_not_end_for_the_first() -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        '40 1.1 openat(AT_FDCWD</>, "/var/log/a.log", O_WRONLY|O_CREAT|O_APPEND, 0666) = -1 EACCES (Permission denied)',
        '40 1.2 openat(AT_FDCWD</>, "/tmp/a.log", O_WRONLY|O_CREAT|O_APPEND, 0666) = 3</tmp/a.log>',
        '40 1.3 openat(AT_FDCWD</>, "/var/lib/a/db", O_RDWR) = -1 EACCES (Permission denied)',
        "40 1.4 +++ exited with 4 +++",
    ]
    found = weighed(told(lines, "a.service", ["/opt/a"]), frozenset(), True)
    assert found[0].thing == "/var/lib/a/db"
    assert all(one.weight < 0.2 for one in found if one.thing == "/var/log/a.log")


def test_a_port_of_a_device_is_no_terminal_that_is_done_without() -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        '40 1.1 openat(AT_FDCWD</>, "/dev/tty", O_RDWR) = -1 ENXIO (No such device or address)',
        '40 1.2 openat(AT_FDCWD</>, "/dev/ttyUSB5", O_RDWR) = -1 ENOENT (No such file or directory)',
        "40 1.3 +++ exited with 1 +++",
    ]
    assert weighed(told(lines, "a.service", ["/opt/a"]), frozenset(), True)[0].thing == "/dev/ttyUSB5"


def test_a_start_that_hangs_without_its_port_is_told_by_that() -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        '40 1.1 openat(AT_FDCWD</>, "/opt/a.conf", O_RDONLY) = -1 ENOENT (No such file or directory)',
        '40 1.2 bind(4<socket:[12]>, {sa_family=AF_INET, sin_port=htons(80), sin_addr=inet_addr("0.0.0.0")}, 16)'
        " = -1 EADDRINUSE (Address already in use)",
        '40 1.3 openat(AT_FDCWD</>, "/opt/b.conf", O_RDONLY) = 5</opt/b.conf>',
    ]  # fmt: skip
    found = weighed(told(lines, "a.service", ["/opt/a"]), frozenset(), True)
    assert found[0].thing == "0.0.0.0:80" and LIKELY <= found[0].weight <= SURE
    ended = weighed(told([*lines, "40 1.4 +++ exited with 1 +++"], "a.service", ["/opt/a"]), frozenset(), True)
    assert ended[0].thing == "0.0.0.0:80" and ended[0].weight > SURE


def _tries(call: str, count: int, apart: float) -> list[str]:
    return [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        *(f"40 {1.1 + apart * at:.2f} {call}" for at in range(count)),
        f"40 {1.2 + apart * count:.2f} +++ killed by SIGTERM +++",
    ]


STAT = 'newfstatat(AT_FDCWD</>, "/run/a/ready", 0x1, 0) = -1 ENOENT (No such file or directory)'
CALL = (
    'connect(4<TCP:[7]>, {sa_family=AF_INET, sin_port=htons(7411), sin_addr=inet_addr("127.0.0.1")}, 16)'
    " = -1 ECONNREFUSED (Connection refused)"
)
LOADER = 'access("/etc/ld.so.preload", R_OK) = -1 ENOENT (No such file or directory)'


@pytest.mark.parametrize(
    ("call", "count", "apart", "waits"),
    [
        (STAT, 12, 0.5, True),
        (CALL, 4, 1.0, True),
        (STAT, 2, 5.0, False),
        (STAT, 12, 0.01, False),
        (LOADER, 12, 0.5, False),
    ],
)
def test_what_a_start_asks_for_until_its_limit_is_what_it_waits_for(
    call: str, count: int, apart: float, waits: bool
) -> None:
    story = told(_tries(call, count, apart), "a.service", ["/opt/a"])
    found = weighed(story, frozenset(), True, hung=True)
    assert (bool(found) and found[0].weight > SURE and found[0].error in ("ENOENT", "ECONNREFUSED")) == waits
    assert bool(asked_again(story)) == waits


def test_what_came_in_the_end_is_not_waited_for() -> None:
    lines = _tries(STAT, 12, 0.5)
    lines.insert(-1, '40 7.0 newfstatat(AT_FDCWD</>, "/run/a/ready", {st_mode=S_IFREG|0644, st_size=0}, 0) = 0')
    assert not asked_again(told(lines, "a.service", ["/opt/a"]))


def test_a_service_that_is_up_is_told_whom_it_calls_in_vain() -> None:
    course = Course(0.0, datetime(2031, 3, 4, 6, 12, tzinfo=UTC))
    for count, calls in ((5, ["127.0.0.1:7411"]), (1, [])):
        story = told(_tries(CALL, count, 0.6)[:-1], "a.service", ["/opt/a"])
        assert [one.thing for one in watching._left_without(story, frozenset(), course)] == calls
        seen = Observation(
            "a.service", course.at, 3.0, "up", True, calls=watching._left_without(story, frozenset(), course)
        )
        assert records_of(seen) == []  # no rule takes it for a failure


ASKS = "40 1.3 kill(99, 0) = {}"


@pytest.mark.parametrize(
    ("asks", "others", "finds"),
    [
        (ASKS.format("0"), [], True),
        (ASKS.format("-1 EPERM (Operation not permitted)"), [], True),
        ('40 1.3 newfstatat(AT_FDCWD</>, "/proc/99", {st_mode=S_IFDIR|0555, st_size=0, ...}, 0) = 0', [], True),
        (ASKS.format("-1 ESRCH (No such process)"), [], False),
        ("40 1.3 kill(99, SIGTERM) = 0", [], False),
        ("40 1.3 kill(40, 0) = 0", [], False),
        (ASKS.format("0"), [f"40 1.4 kill({number}, 0) = 0" for number in (101, 102, 103)], False),
    ],
)
def test_a_file_by_whose_number_another_instance_is_found_is_a_lock(asks: str, others: list[str], finds: bool) -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        '40 1.1 openat(AT_FDCWD</>, "/opt/lib/pidfile.py", O_RDONLY|O_CLOEXEC) = 3</opt/lib/pidfile.py>',
        '40 1.2 openat(AT_FDCWD</>, "/var/lib/a/a.pid", O_RDONLY|O_CLOEXEC) = 3</var/lib/a/a.pid>',
        asks,
        *others,
        '40 1.5 connect(4<socket:[7]>, {sa_family=AF_INET, sin_port=htons(53), sin_addr=inet_addr("10.0.0.2")}, 16) = -1 ENETUNREACH (No)',
        "40 1.6 +++ exited with 1 +++",
    ]
    first = weighed(told(lines, "a.service", ["/opt/a"]), frozenset(), True)[0]
    assert (first.kind == "lock") == finds
    if finds:
        assert said(first) == "cannot lock /var/lib/a/a.pid: the process that it names runs already"


PARTS = ("quay", "quay.js", "quay.json", "quay.node")


@pytest.mark.parametrize(
    ("sought", "found", "is_part"),
    [
        ([f"/opt/node_modules/{one}" for one in PARTS], "", True),
        ([f"/opt/lib/{one}" for one in PARTS[:2]] + ["/srv/lib/quay"], "", True),
        ([f"/opt/node_modules/{one}" for one in PARTS], "/srv/node_modules/quay.js", False),
        ([f"{folder}/quay.conf" for folder in ("/etc", "/srv", "/opt")], "", False),
        ([f"/opt/node_modules/{one}" for one in PARTS[:2]], "", False),
        ([f"/opt/lib/__init__{end}" for end in (".so", ".py", ".pyc")], "", False),
    ],
)
def test_a_name_that_is_sought_with_several_endings_is_a_part_of_the_program(
    sought: list[str], found: str, is_part: bool
) -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        *(
            f'40 1.1 newfstatat(AT_FDCWD</>, "{path}", 0x7ffc, 0) = -1 ENOENT (No such file or directory)'
            for path in sought
        ),
        *(
            [f'40 1.2 newfstatat(AT_FDCWD</>, "{found}", {{st_mode=S_IFREG|0644, st_size=9, ...}}, 0) = 0']
            if found
            else []
        ),
        "40 1.6 +++ exited with 1 +++",
    ]
    found_calls = weighed(told(lines, "a.service", ["/opt/a"]), frozenset(), True)
    assert (found_calls[0].thing == sought[0] and found_calls[0].weight > 0.5) == is_part


LIBRARIES = ("/usr/local/lib", "/lib/x86_64-linux-gnu", "/usr/lib")


@pytest.mark.parametrize(
    ("name", "folders", "after", "is_missed"),
    [
        ("libtide.so.2", LIBRARIES, "", True),
        ("libtide.so.2", LIBRARIES[:1], "", False),
        ("libnss_tide.so.2", LIBRARIES, "", False),
        (
            "libtide.so.2",
            LIBRARIES,
            'openat(AT_FDCWD, "/opt/libtide.so.2", O_RDONLY|O_CLOEXEC) = 3</opt/libtide.so.2>',
            False,
        ),
        ("libtide.so.2", LIBRARIES, "\n".join(['mkdirat(AT_FDCWD</>, "/run/a", 0755) = 0'] * 40), False),
    ],
)
def test_a_library_that_a_program_seeks_in_vain_right_before_its_end(
    name: str, folders: tuple[str, ...], after: str, is_missed: bool
) -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        *(
            f'40 1.1 openat(AT_FDCWD, "{folder}/{name}", O_RDONLY|O_CLOEXEC) = -1 ENOENT (No such file or directory)'
            for folder in folders
        ),
        *(f"40 1.2 {line}" for line in after.splitlines()),
        "40 1.6 +++ exited with 8 +++",
    ]
    found = weighed(told(lines, "a.service", ["/opt/a"]), frozenset(), True)
    assert any(one.kind == "library" and one.thing == name and one.weight > 0.5 for one in found) == is_missed


@pytest.mark.parametrize(
    ("path", "meant"), [("/var/lib/quay77/a.pid", True), ("/var/lib/other77/a.pid", False), ("/etc/quay77/a", False)]
)
def test_a_folder_of_its_own_that_is_gone_is_missed(path: str, meant: bool) -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        f'40 1.1 openat(AT_FDCWD</>, "{path}", O_RDONLY|O_CLOEXEC) = -1 ENOENT (No such file or directory)',
        "40 1.6 +++ exited with 1 +++",
    ]
    story = told(lines, "quay77.service", ["/opt/a"])
    found = missed(story, names_in("quay77.service", {"User": "root"}))
    assert found == ({path: "own_folder"} if meant else {})
    shares = [weighed(story, frozenset(), True, one)[0].weight for one in ({}, found)]
    assert (shares[1] > shares[0]) == meant


@pytest.mark.parametrize(("place", "kind"), [("/etc/userdb/purser.user", "user"), ("/run/userdb/crew.group", "group")])
def test_an_account_that_is_sought_in_vain_is_told_by_its_name(place: str, kind: str) -> None:
    lines = [
        '40 1.0 execve("/opt/a", ["/opt/a"], 0x7f /* 3 vars */) = 0',
        f'40 1.1 openat(AT_FDCWD</>, "{place}", O_RDONLY|O_CLOEXEC) = -1 ENOENT (No such file or directory)',
        f'40 1.2 openat(AT_FDCWD</>, "/usr/lib{place.removeprefix("/etc").removeprefix("/run")}", O_RDONLY) = -1 ENOENT (No such)',
        "40 1.3 +++ exited with 1 +++",
    ]
    found = weighed(told(lines, "a.service", ["/opt/a"]), frozenset(), True)
    name = place.rpartition("/")[2].partition(".")[0]
    assert [(one.kind, one.thing) for one in found] == [(kind, name)]
    assert said(found[0]) == f"unknown system {kind} {name}"


def test_a_value_of_base_eight_is_read() -> None:
    """What umask(2) returns is written so."""
    found = TraceReader().read("12  1795786815.412163 umask(027) = 022")
    assert isinstance(found, TracedCall) and found.value == 0o22


@pytest.mark.parametrize(
    ("ran", "result", "seconds"),
    [
        (0.0, "exit-code", 3.0),
        (0.2, "exit-code", 3.0),
        (5.0, "exit-code", 20.0),
        (40.0, "signal", 60.0),
        (7200.0, "signal", 3.0),
        (5.0, "success", 3.0),
    ],
)
def test_a_start_is_watched_for_as_long_as_the_run_before_needed_to_fail(
    ran: float, result: str, seconds: float
) -> None:
    unit = {"ExecMainStartTimestamp": 10**15, "ExecMainExitTimestamp": 10**15 + int(ran * 1e6), "Result": result}
    assert watching._settles(unit) == seconds


BEGUN = [
    "1 1.0 clone(child_stack=NULL, flags=SIGCHLD) = 2",
    '2 1.1 openat(AT_FDCWD, "/sys/fs/cgroup/system.slice/a.service/cgroup.procs", O_WRONLY) = 3</sys/fs/cgroup>',
    '2 1.2 execve("/opt/a", ["a"], 0x1) = 0',
    '2 1.3 openat(AT_FDCWD, "/lib/x86_64-linux-gnu/libc.so.6", O_RDONLY|O_CLOEXEC) = 3</lib/x86_64-linux-gnu/libc.so.6>',
    '2 1.4 openat(AT_FDCWD, "/etc/a/a.conf", O_RDONLY) = 3</etc/a/a.conf>',
    '2 1.5 openat(AT_FDCWD, "/etc/a/key.pem", O_RDONLY) = 3</etc/a/key.pem>',
]


@pytest.mark.parametrize(
    ("more", "path"),
    [
        ([], "/etc/a/key.pem"),
        (['2 1.6 openat(AT_FDCWD, "/etc/localtime", O_RDONLY) = 3</etc/localtime>'], "/etc/a/key.pem"),
        (
            ['2 1.6 openat(AT_FDCWD, "/var/log/a.log", O_WRONLY|O_CREAT|O_APPEND, 0644) = 4</var/log/a.log>'],
            "/etc/a/key.pem",
        ),
        (['2 1.6 connect(4<UNIX:[7]>, {sa_family=AF_UNIX, sun_path="/dev/log"}, 110) = 0'], "/etc/a/key.pem"),
        (
            ['2 1.6 bind(4<TCP:[7]>, {sa_family=AF_INET, sin_port=htons(80), sin_addr=inet_addr("0.0.0.0")}, 16) = 0'],
            "",
        ),
        (['2 1.6 mkdir("/run/a", 0755) = 0'], ""),
        (["2 4.6 getpid() = 2"], ""),
    ],
)
def test_the_file_that_it_had_read_last_when_it_ended(more: list[str], path: str) -> None:
    at = 4.7 if more and more[0].startswith("2 4") else 1.7
    story = told([*BEGUN, *more, f"2 {at} +++ exited with 3 +++"], "a.service", ["/opt/a"], (), 1)
    assert last_read(story) == path
