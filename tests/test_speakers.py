"""Who says a line is not what it is about: programs begin their complaints with the path that they were called by (perror(3))."""

from __future__ import annotations

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.codec import decode
from hollow_chain.verdict import diagnose
from hollow_chain.verdict.judge import Cause
from hollow_chain.wording.lines import is_there_already
from hollow_chain.wording.system_errors import error_at_end
from hollow_chain.wording.things import is_program_place, paths_in
from tests.test_cases import document


@pytest.mark.parametrize(
    ("text", "paths"),
    [
        ("/bin/touch: cannot touch '/var/lib/x': Permission denied", ["/var/lib/x"]),
        ("/usr/bin/install: cannot create regular file '/etc/x': Permission denied", ["/etc/x"]),
        ("/bin/ln: failed to create symbolic link '/etc/x': Permission denied", ["/etc/x"]),
        ("/bin/cat: /etc/none: No such file or directory", ["/etc/none"]),
        ("/usr/sbin/quayd[7]: open /srv/own: Permission denied", ["/srv/own"]),
        ("/opt/quay/run.py: cannot open /srv/own: Permission denied", ["/srv/own"]),
        ("/usr/bin/python3: can't open file '/srv/own': [Errno 13] Permission denied", ["/srv/own"]),
        ("/bin/cp: cannot copy /srv/a to /srv/b: Permission denied", ["/srv/a", "/srv/b"]),
        # The thing itself stands first:
        ("/srv/own: Permission denied (asked for by /usr/bin/quayd)", ["/srv/own", "/usr/bin/quayd"]),
        ("/srv/own: No such file or directory, /srv/other is used", ["/srv/own", "/srv/other"]),
        ("/bin/touch: Permission denied", ["/bin/touch"]),
        # A place in settings:
        ("/srv/quay/quay.conf: folder '/srv/none' is no folder", ["/srv/quay/quay.conf", "/srv/none"]),
        ("/etc/quay.yaml: /srv/none: no such folder", ["/etc/quay.yaml", "/srv/none"]),
        ("/etc/quay: 12: /srv/none is not there", ["/etc/quay", "/srv/none"]),
    ],
)
def test_the_program_that_speaks_is_left_out(text: str, paths: list[str]) -> None:
    assert paths_in(text) == paths


@pytest.mark.parametrize(
    ("path", "is_one"),
    [("/bin/touch", True), ("/usr/local/sbin/a", True), ("/usr/libexec/a", True), ("/srv/bin.d/a", False), ("/bin", False)],
)  # fmt: skip
def test_places_of_programs(path: str, is_one: bool) -> None:
    assert is_program_place(path) == is_one


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("cannot lock /srv/a: Resource temporarily unavailable", "EAGAIN"),
        ("mkdir '/srv/a': File exists.", "EEXIST"),
        ("open /srv/a: permission denied", "EACCES"),
        ("Permission denied: /srv/a", ""),
        ("cannot open /srv/a", ""),
        ("", ""),
    ],
)
def test_the_error_with_which_a_line_ends(text: str, name: str) -> None:
    assert error_at_end(text) == name


@pytest.mark.parametrize(
    "error", ["File exists", "Resource temporarily unavailable", "No space left on device", "Is a directory"]
)
def test_a_line_that_ends_with_another_error_tells_of_no_refusal(error: str) -> None:
    file = {"path": "/srv/a", "kind": "file", "exists": True, "owner": "root", "group": "root", "mode": "0600"}
    assert _first(f"cannot open /srv/a: {error}", [file], "mate").finding.cause != "access-denied"


@pytest.mark.parametrize("text", ["mkdir '/srv/a': File exists", "open: EEXIST: /srv/a"])
def test_what_is_there_already_was_to_be_new(text: str) -> None:
    assert is_there_already(text) and not is_there_already("no such file exists there")


_PROGRAMS = ("/bin/touch", "/bin/mkdir", "/usr/bin/install", "/bin/ln", "/usr/bin/quayd")


@pytest.mark.parametrize("step", ["", "ExecStartPre"])
@pytest.mark.parametrize(
    ("text", "thing", "most"),
    [
        ("/bin/touch: cannot touch '/var/lib/x': Permission denied", "/var/lib/x", 1.0),
        ("/bin/mkdir: cannot create directory \u2018/var/lib/x\u2019: Permission denied", "/var/lib/x", 1.0),
        ("/usr/bin/install: cannot create regular file '/etc/x': Permission denied", "/etc/x", 1.0),
        ("/bin/ln: failed to create symbolic link '/etc/x': Permission denied", "/etc/x", 1.0),
        # Its owner and mode let everybody run it: nothing bears out that it is what was refused.
        ("/bin/touch: Permission denied", "/bin/touch", 0.8),
        ("cannot run /usr/bin/quayd: Permission denied", "/usr/bin/quayd", 0.8),
    ],
)
def test_a_program_that_everybody_may_run_is_not_what_was_refused(
    text: str, thing: str, most: float, step: str
) -> None:
    of_root = {"exists": True, "owner": "root", "group": "root", "mode": "0755"}
    files: list[dict[str, object]] = [
        *({"path": path, "kind": "file", **of_root} for path in _PROGRAMS),
        *({"path": path, "kind": "folder", **of_root} for path in ("/", "/etc", "/var", "/var/lib")),
        *({"path": path, "exists": False} for path in ("/etc/x", "/var/lib/x")),
    ]
    says, confidence = _refusal(text, files, "mate", step)
    assert f"may not use {thing}:" in says
    assert confidence <= most


@pytest.mark.parametrize(
    ("text", "mode", "user", "told", "most"),
    [
        # It may be read, and nobody says that it was to be written.
        (
            "open /etc/quay.json: permission denied",
            "0644",
            "mate",
            "mate may read /etc/quay.json, and not write to it",
            0.9,
        ),
        ("open /etc/quay.json: permission denied", "0600", "mate", "belongs to root:root, mode 0600", 1.0),
        (
            "could not write to /etc/quay.json: permission denied",
            "0644",
            "mate",
            "belongs to root:root, mode 0644",
            1.0,
        ),
        ("Error: spawn /etc/quay.json EACCES", "0644", "mate", "mode 0644", 1.0),
        ("Error: spawn /etc/quay.json EACCES", "0644", "root", "may be executed by nobody: mode 0644", 1.0),
        ("Error: spawn /etc/quay.json EACCES", "0755", "mate", "owner and mode would let it", 0.8),
    ],
)
def test_what_keeps_it_out_is_what_it_was_about_to_do(text: str, mode: str, user: str, told: str, most: float) -> None:
    folder = {"path": "/etc", "kind": "folder", "exists": True, "owner": "root", "group": "root", "mode": "0755"}
    file = {"path": "/etc/quay.json", "kind": "file", "exists": True, "owner": "root", "group": "root", "mode": mode}
    says, confidence = _refusal(text, [folder, file], user)
    assert "may not use /etc/quay.json:" in says and told in says
    assert confidence <= most


def _refusal(text: str, files: list[dict[str, object]], user: str, step: str = "") -> tuple[str, float]:
    """What is said of a service that ended with these words, and how sure that is."""
    first = _first(text, files, user, step)
    assert first.finding.cause == "access-denied"
    return first.finding.says, first.confidence


def _first(text: str, files: list[dict[str, object]], user: str, step: str = "") -> Cause:
    """The first cause of the end of a service with these words."""
    service = {
        "name": "a.service",
        "state": "failed",
        "startup": "automatic",
        "account": {"user": user, "group": user},
        "program": {"path": "/usr/bin/quayd", "arguments": ["/usr/bin/quayd"]},
        "last": {"result": "exit-code", "exit_status": 1, "step": step, "started_at": "2026-03-04T05:00:00Z", "ended_at": "2026-03-04T05:00:02Z"},
    }  # fmt: skip
    said = {"at": "2026-03-04T05:00:01Z", "service": "a.service", "source": "journal (a)", "process": 7, "text": text}
    facts = Facts(Graph(decode(document({"name": "", "services": [service], "files": files, "events": [said]}))))
    return diagnose(facts, facts.graph.node("quay", "a.service")).causes[0]
