"""What was changed lately: logs of packages, what root was asked to do, file times; as evidence, as a list, between two readings."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.facts.change import Change
from hollow_chain.facts.host import Host
from hollow_chain.facts.runs import LastRun, Start
from hollow_chain.facts.service import Service
from hollow_chain.lately.clue import LITTLE, Clues
from hollow_chain.sources.package_logs import LOGS, changes_in
from hollow_chain.wording.asked_of_root import asked_of_root
from hollow_chain.wording.durations import since
from tests.conftest import Run

NOW = datetime(2026, 3, 4, 12, 0, tzinfo=UTC)
BY_PATH = {log.path: log for log in LOGS}
LINES = [
    ("/var/log/dpkg.log", "2026-03-04 06:00:00 upgrade tide-board:amd64 2.1-1 2.2-1", ("upgraded", "tide-board", "2.1-1", "2.2-1")),
    ("/var/log/dpkg.log", "2026-03-04 06:00:00 install tide-board:all <none> 2.2-1", ("installed", "tide-board", "", "2.2-1")),
    ("/var/log/dpkg.log", "2026-03-04 06:00:00 remove tide-board:amd64 2.2-1 <none>", ("removed", "tide-board", "2.2-1", "")),
    ("/var/log/dpkg.log", "2026-03-04 06:00:00 status installed tide-board:amd64 2.2-1", None),
    ("/var/log/dpkg.log", "2026-03-04 06:00:00 startup archives unpack", None),
    ("/var/log/dnf.rpm.log", "2026-03-04T06:00:00+0000 SUBDEBUG Upgrade: tide-board-1:2.2-1.el9.x86_64", ("upgraded", "tide-board", "", "2.2-1.el9")),
    ("/var/log/dnf.rpm.log", "2026-03-04T07:00:00+0100 SUBDEBUG Installed: tide-board-2.2-1.noarch", ("installed", "tide-board", "", "2.2-1")),
    ("/var/log/dnf.rpm.log", "2026-03-04T06:00:00Z INFO Erase: tide-board-2.2-1.x86_64", ("removed", "tide-board", "2.2-1", "")),
    ("/var/log/dnf.rpm.log", "2026-03-04T06:00:00Z INFO --- logging initialized ---", None),
    ("/var/log/yum.log", "Mar 04 06:00:00 Updated: tide-board-2.2-1.el7.x86_64", ("upgraded", "tide-board", "", "2.2-1.el7")),
    ("/var/log/zypp/history", "2026-03-04 06:00:00|install|tide-board|2.2-1|x86_64|root@quay|repo|abc|", ("installed", "tide-board", "", "2.2-1")),
    ("/var/log/zypp/history", "2026-03-04 06:00:00|remove |tide-board|2.2-1|x86_64|root@quay|", ("removed", "tide-board", "2.2-1", "")),
    ("/var/log/pacman.log", "[2026-03-04T06:00:00+0000] [ALPM] upgraded tide-board (2.1-1 -> 2.2-1)", ("upgraded", "tide-board", "2.1-1", "2.2-1")),
    ("/var/log/pacman.log", "[2026-03-04 06:00] [ALPM] installed tide-board (2.2-1)", ("installed", "tide-board", "", "2.2-1")),
    ("/var/log/pacman.log", "[2026-03-04T06:00:00+0000] [ALPM] transaction started", None),
]  # fmt: skip


@pytest.mark.parametrize(
    ("path", "line", "said"), LINES, ids=[f"{path.rpartition('/')[2]}: {line[-40:]}" for path, line, _ in LINES]
)
def test_logs_of_packages_are_read_by_their_form(
    path: str, line: str, said: tuple[str, ...] | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("TZ", "UTC")
    found = list(changes_in([line], BY_PATH[path], NOW))
    assert [(one.did, one.what, one.before, one.after) for one in found] == ([said] if said else [])
    assert all(one.at == datetime(2026, 3, 4, 6, 0, tzinfo=UTC) for one in found)


@given(st.text(max_size=300), st.sampled_from(LOGS))
def test_no_line_breaks_the_reading(text: str, log: object) -> None:
    list(changes_in([text, f"2026-03-04 06:00:00 {text}", f"Feb 30 25:61:61 {text}"], log, NOW))  # type: ignore[arg-type]
    asked_of_root(NOW, text, "sudo")


RECORDS = [
    ("sudo", "    mara : TTY=pts/0 ; PWD=/home/mara ; USER=root ; COMMAND=/usr/bin/systemctl stop tide-board", ("mara", "systemctl stop tide-board")),
    ("sudo", "mara : PWD=/ ; USER=root ; ENV=A=1 ; COMMAND=/opt/x --password=hunter2hunter2", ("mara", None)),
    ("sudo", "pam_unix(sudo:session): session opened for user root(uid=0) by mara(uid=1000)", None),
    ("sudo", "mara : command not allowed ; TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/sh", None),
    ("pkexec", "mara: Executing command [USER=root] [TTY=/dev/pts/1] [CWD=/] [COMMAND=/usr/bin/systemctl start q]", ("mara", "systemctl start q")),
    ("doas", "mara ran command systemctl restart quay as root from /home/mara", ("mara", "systemctl restart quay")),
]  # fmt: skip


@pytest.mark.parametrize(("writer", "text", "said"), RECORDS, ids=[text[:40] for _, text, _ in RECORDS])
def test_what_root_was_asked_to_do(writer: str, text: str, said: tuple[str, str | None] | None) -> None:
    found = asked_of_root(NOW, text, writer)
    if said is None:
        assert found is None
    else:
        assert found is not None and found.by == said[0] and (said[1] is None or found.what == said[1])
        assert "hunter2" not in found.what


def test_a_time_back_and_a_moment_are_understood(monkeypatch: pytest.MonkeyPatch) -> None:
    for text, back in (
        ("90m", timedelta(minutes=90)),
        ("2h", timedelta(hours=2)),
        ("1h30m", timedelta(minutes=90)),
        ("1.5d", timedelta(hours=36)),
    ):
        assert since(text, NOW) == NOW - back
    assert since("2026-03-04 06:00+00:00", NOW) == datetime(2026, 3, 4, 6, tzinfo=UTC)
    for wrong in ("", "2", "two hours", "-2h", "2h ago", "h"):
        with pytest.raises(ValueError):
            since(wrong, NOW)


def host_with(*changes: Change, **service: object) -> tuple[Host, Service]:
    made = Service(name="quay.service", state="failed", **service)  # type: ignore[arg-type]
    return Host(name="h", read_at=NOW, services=[made], changes=list(changes)), made


def changed(minutes: float, **more: object) -> Change:
    about = {"kind": "settings", "what": "/etc/quay.conf", "services": ["quay.service"], **more}
    return Change(at=NOW - timedelta(minutes=minutes), **about)  # type: ignore[arg-type]


def test_only_what_precedes_a_failure_by_little_is_a_clue() -> None:
    failed = LastRun(result="exit-code", started_at=NOW - timedelta(minutes=30), ended_at=NOW - timedelta(minutes=30))
    near, far, after = changed(31), changed(31 + LITTLE.total_seconds() / 60), changed(10)
    host, service = host_with(near, far, after, last=failed)
    assert Clues(host).preceding(service) == [near]
    others = [changed(31, what=f"/etc/{name}", kind="system", services=[]) for name in "abcd"]
    host, service = host_with(*others, last=failed)
    assert Clues(host).preceding(service) == []  # so many at once tell nothing
    host, service = host_with(others[0], last=failed)
    assert Clues(host).preceding(service) == [others[0]]
    host, service = host_with(others[0], near, last=failed)
    assert Clues(host).preceding(service) == [near]
    host, service = host_with(changed(31, kind="state", did="stopped"), last=failed)
    assert Clues(host).preceding(service) == []  # a consequence, and no act


def test_a_service_that_fails_again_and_again_began_to_fail_once(facts: Callable[[str], Path], run: Run) -> None:
    failed = LastRun(result="exit-code", started_at=NOW, ended_at=NOW, restarts=40)
    good = Start(at=NOW - timedelta(hours=9))
    host, service = host_with(changed(8 * 60 + 5), last=failed, starts=[good])
    from hollow_chain.facts.host import Event
    from hollow_chain.families.messages import FAILED

    host.events = [
        Event(at=NOW - timedelta(hours=hours), text="failed", service="quay.service", code=FAILED, by_manager=True)
        for hours in (8, 4, 0)
    ]
    assert Clues(host).failing_since(service) == NOW - timedelta(hours=8)
    assert Clues(host).preceding(service) == host.changes


SICK = """
- name: h
  read_at: 2026-03-04T06:20:00Z
  boot_at: 2026-03-01T06:00:00Z
  services:
  - name: tide.service
    state: failed
    startup: automatic
    wanted_by: [multi-user.target]
    program: {path: /opt/tide, paths: [/etc/tide.conf]}
    account: {user: tide}
    last: {result: exit-code, exit_status: 1, started_at: 2026-03-04T06:00:00Z, ended_at: 2026-03-04T06:00:01Z}
  files:
  - {path: /opt/tide, mode: "0755", executable: true, format: elf x86_64}
  - {path: /etc/tide.conf, owner: root, group: root, mode: "%s", altered_at: 2026-03-04T05:58:00Z, changed_at: 2026-02-01T05:58:00Z}
  accounts: [{name: tide}, {name: root}]
  events:
  - {at: 2026-03-04T06:00:01Z, service: tide.service, source: journal (tide), level: error, trust: own, text: "%s"}
%s
"""
BY_HAND = """  changes:
  - {at: 2026-03-04T05:59:30Z, kind: command, what: vi /etc/tide.conf, services: [tide.service], by: mara}
"""


def test_a_change_stands_above_the_other_evidence_and_weighs_as_a_hint(run: Run, facts: Callable[[str], Path]) -> None:
    denied = "cannot open /etc/tide.conf: Permission denied"
    plain = run(
        "why", "tide", "--from", facts((SICK % ("0600", denied, "")).replace(", altered_at: 2026-03-04T05:58:00Z", ""))
    ).out
    told = run("why", "tide", "--from", facts(SICK % ("0600", denied, ""), "b.yaml"), "--json").json
    given = run("why", "tide", "--from", facts(SICK % ("0600", denied, BY_HAND), "c.yaml"), "--json").json
    assert "access-denied" in plain and "before it failed" not in plain
    by_times, by_record = told["causes"][0], given["causes"][0]
    assert (
        by_times["cause"] == by_record["cause"] == "access-denied" and by_times["confidence"] >= by_record["confidence"]
    )
    assert (
        by_times["evidence"][0]["fact"] == "/etc/tide.conf was replaced or given other rights, 2 min before it failed"
    )
    assert by_record["evidence"][0]["fact"] == "mara had done as root: vi /etc/tide.conf, 30 s before it failed"
    assert [(one["kind"], one["by"]) for one in given["changed"]] == [("command", "mara")]
    assert [one["kind"] for one in told["changed"]] == ["settings"]
    for found in (told, given):  # of several causes at one place only the first has it
        facts_of = [
            one["fact"] for cause in found["causes"] for one in cause["evidence"] if "before it failed" in one["fact"]
        ]
        assert len(facts_of) == len(set(facts_of))


def test_a_change_alone_makes_no_cause(run: Run, facts: Callable[[str], Path]) -> None:
    text = (SICK % ("0644", "going down", BY_HAND)).replace("exit_status: 1, ", "")
    found = run("why", "tide", "--from", facts(text), "--json").json
    assert all(one["confidence"] < 0.8 for one in found["causes"])
    quiet = run(
        "why",
        "tide",
        "--from",
        facts(
            text.replace("state: failed", "state: running").replace("result: exit-code", "result: success"), "c.yaml"
        ),
        "--json",
    )
    assert quiet.json["causes"] == [] and quiet.json["changed"] == [] and quiet.status == 0


def test_changes_lists_filters_and_folds(run: Run, demo_facts: Path, facts: Callable[[str], Path]) -> None:
    done = run("changes", "--from", demo_facts, "--host", "office-01")
    assert (
        done.status == 0
        and "TimetableStore was given another startup type" in done.out
        and "automatic -> disabled" in done.out
    )
    assert done.out.index("06:11:32") < done.out.index("06:02:14")
    one = run("changes", "TimetableStore", "--from", demo_facts, "--json").json
    assert one["format"] == "hollow-chain/changes" and {c["services"][0] for c in one["changes"]} == {"TimetableStore"}
    late = run("changes", "--from", demo_facts, "--host", "office-01", "--since", "5m", "--json").json
    assert [c["kind"] for c in late["changes"]] == ["boot", "startup", "state"]
    many = "".join(
        f"  - {{at: 2026-03-04T05:59:30Z, kind: package, what: lib{number}, did: upgraded}}\n" for number in range(40)
    )
    path = facts(SICK % ("0644", "x", f"  changes:\n{many}"))
    assert "40 packages upgraded: " in run("changes", "--from", path).out
    assert run("changes", "--all", "--from", path).out.count("was upgraded") == 40


WRONG = [
    (["--since", "later"], "--since takes a time back"),
    (["--between", "a.json", "b.json", "--since", "2h"], "--between names both readings itself"),
    (["--between", "a.json", "b.json"], "cannot read a.json"),
    (["--between", "a.json"], "requires 2 arguments"),
    (["nosuch"], "no service 'nosuch'"),
]


@pytest.mark.parametrize(("words", "says"), WRONG, ids=[" ".join(words) for words, _ in WRONG])
def test_wrong_calls_get_one_line(run: Run, demo_facts: Path, words: list[str], says: str) -> None:
    source = [] if "--between" in words else ["--from", demo_facts, "--host", "gate-03"]
    done = run("changes", *words, *source)
    assert done.status in (2, 3) and says in done.err and done.err.count("\n") == 1


def test_two_readings_are_compared_and_noise_is_left_out(run: Run, facts: Callable[[str], Path]) -> None:
    well = (
        (SICK % ("0644", "x", ""))
        .replace("state: failed", "state: running")
        .replace("exit-code, exit_status: 1", "success")
    )
    sick = SICK % ("0600", "x", "")
    sick = sick.replace("account: {user: tide}", "account: {user: ebb}").replace(
        "2026-03-04T06:20:00Z", "2026-03-05T06:20:00Z"
    )
    old, new = (
        facts(well, "old.yaml"),
        facts(sick.replace("path: /opt/tide,", "path: /opt/tide, process: 77,", 1), "new.yaml"),
    )
    found = run("changes", "--between", old, new, "--json").json
    assert found["format"] == "hollow-chain/differences"
    told = {one["about"]: (one["before"], one["after"]) for one in found["differences"]}
    assert told == {
        "state": ("running", "failed"),
        "last result": (None, "exit-code, 1"),
        "account": ("tide", "ebb"),
        "mode of /etc/tide.conf": ("0644", "0600"),
    }
    assert {one["links_from_trouble"] for one in found["differences"]} == {0}
    shown = run("changes", "--between", old, new)
    assert "account: tide -> ebb" in shown.out and "4 differences." in shown.out and shown.status == 0
    assert "Nothing differs" in run("changes", "--between", old, old).out
    assert run("changes", "tide", "--between", old, new, "--json").json["differences"] == found["differences"]


def test_a_sick_host_is_compared_with_its_twin(run: Run, facts: Callable[[str], Path]) -> None:
    one = facts((SICK % ("0644", "x", "")), "one.yaml")
    other = facts(
        (SICK % ("0644", "x", ""))
        .replace("name: h\n", "name: twin\n")
        .replace("startup: automatic", "startup: manual"),
        "two.yaml",
    )
    found = run("changes", "--between", other, one, "--json").json
    assert (found["old"]["host"], found["new"]["host"]) == ("twin", "h")
    assert [d["about"] for d in found["differences"]] == ["startup type"]
