"""The page to hand on: what is in it, what is not, that nothing foreign gets out of its place, and that a browser shows it."""

from __future__ import annotations

import json
import os
import re
import shutil
import stat
import subprocess
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path

import pytest

from hollow_chain.causes import acts
from hollow_chain.causes.acts import Act
from hollow_chain.facts.host import Host
from hollow_chain.mend.plan import Step
from hollow_chain.mend.shell_lines import shell_lines
from hollow_chain.wording.discreet import Discreet
from tests.conftest import Run

CALLS = {
    "why": ["why", "kiosk", "--says", "Boarding list is <b>empty</b>"],
    "why-all": ["why", "--all"],
    "about": ["about", "barrier"],
    "mend": ["mend", "kiosk"],
    "rehearse": ["rehearse", "--host", "voyage-ws", "--runs", "50"],
    "rehearse-some": ["rehearse", "BridgeScreens", "--host", "voyage-ws", "--runs", "50"],
    "why-well": ["why", "ReportMill"],
}


class Reader(HTMLParser):
    """The tags of a page, and whether each is closed."""

    VOID = ("meta", "link", "br", "hr", "img", "input")

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.tags: list[tuple[str, dict[str, str | None]]] = []
        self.feed(text)
        assert self.open == []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


@pytest.mark.parametrize("name", CALLS)
def test_each_command_writes_a_whole_page_of_both_kinds(run: Run, demo_facts: Path, tmp_path: Path, name: str) -> None:
    for ending in ("html", "md"):
        done = run(*CALLS[name], "--from", demo_facts, "--out", f"{name}.{ending}")
        assert done.status in (0, 1) and done.out.startswith(f"wrote {name}.{ending}: ") and done.out.count("\n") == 1
        text = (tmp_path / f"{name}.{ending}").read_text()
        assert stat.S_IMODE((tmp_path / f"{name}.{ending}").stat().st_mode) == 0o600
        assert not re.search(r">None(?! of)|None<", text) and "\x1b" not in text
        if ending == "html":
            tags = Reader(text).tags
            assert not [tag for tag, _ in tags if tag in ("script", "img", "iframe")]
            assert not [
                about
                for _, about in tags
                for key, value in about.items()
                if key in ("src", "href") and value != "data:,"
            ]


def test_the_page_of_a_verdict_says_it_all(run: Run, demo_facts: Path, tmp_path: Path) -> None:
    run(*CALLS["why"], "--from", demo_facts, "--out", "why.html", TZ="Europe/Berlin")
    text = (tmp_path / "why.html").read_text()
    for part in (
        "gate-kiosk.service on gate-03",
        "Boarding list is &lt;b&gt;empty&lt;/b&gt;",
        "TimetableStore is disabled: its startup type is disabled",
        "<svg",
        "hollow link: disabled",
        "98% sure",
        "startup type of TimetableStore: disabled",
        "<details>",
        "Enable TimetableStore",
        "2026-03-04 07:12:02 CET (06:12:02 UTC)",
        "Moments are in CET",
    ):
        assert part in text, part
    assert "<b>empty" not in text


def test_the_page_of_a_plan_has_lines_to_type_and_the_proof_in_words(
    run: Run, demo_facts: Path, tmp_path: Path
) -> None:
    run("mend", "kiosk", "--from", demo_facts, "--out", "plan.md")
    text = (tmp_path / "plan.md").read_text()
    assert (
        "```sh\n   systemctl reset-failed sailings-relay.service\n   systemctl start sailings-relay.service\n   ```"
        in text
    )
    assert (
        "Before: disabled; after: automatic" in text
        and "No step can be left out" in text
        and "## How to undo it" in text
    )


def test_a_mend_that_was_made_and_its_case_are_pages_too(run: Run, demo_facts: Path, tmp_path: Path) -> None:
    assert run("lab", "make", "office", "--from", demo_facts, "--host", "office-01").status == 0
    call = ["mend", "TimetableStore", "--from", "office", "--apply", "--yes", "--watch", "0", "--out", "done.html"]
    done = run(*call, "--store", "cases.db", SUDO_USER="mara")
    assert done.status == 0 and "holds" in done.out and "wrote done.html" in done.err
    text = (tmp_path / "done.html").read_text()
    assert "What was done for TimetableStore" in text and "done by Hollow Chain" in text and ">mara<" in text
    assert "hollow-chain mend --undo 2" in text
    shown = run("case", "show", "1", "--store", "cases.db", "--out", "case.html")
    assert shown.status == 0
    text = (tmp_path / "case.html").read_text()
    assert "Case 1: TimetableStore" in text and "hollow-chain mend --undo" in text and "<svg" in text
    run(*call[:-1], "again.html", "--for", "customer", "--store", "cases.db", SUDO_USER="mara")


def test_a_customer_sees_no_accounts_paths_addresses_and_logs(
    run: Run, facts: Callable[[str], Path], tmp_path: Path
) -> None:
    path = facts("""
- name: h
  read_at: 2026-03-04T06:20:00Z
  services:
  - name: tide.service
    state: failed
    startup: automatic
    wanted_by: [multi-user.target]
    definition: {file: /etc/systemd/system/tide.service}
    program: {path: /opt/secret place/tide, paths: [/etc/tide.conf]}
    account: {user: tideman}
    last: {result: exit-code, exit_status: 1, started_at: 2026-03-04T06:00:00Z, ended_at: 2026-03-04T06:00:01Z}
  files:
  - {path: /etc/tide.conf, owner: purser, group: purser, mode: "0600"}
  accounts: [{name: tideman}, {name: purser}]
  events:
  - {at: 2026-03-04T06:00:01Z, service: tide.service, source: journal (tide), level: error, trust: own,
     text: "open /etc/tide.conf for 10.20.0.7 and fe80::1:2: Permission denied"}
  changes: [{at: 2026-03-04T05:59:30Z, kind: command, what: vi /etc/tide.conf, services: [tide.service], by: mara}]
""")
    for command in ("why", "about", "mend"):
        for ending in ("html", "md"):
            run(command, "tide", "--from", path, "--out", f"c.{ending}", "--for", "customer")
            text = (tmp_path / f"c.{ending}").read_text()
            _, _, body = text.partition("<body>") if ending == "html" else ("", "", text)
            for word in ("tideman", "purser", "mara", "/etc", "/opt", "10.20", "fe80", "journal (tide)<"):
                assert word not in body, (command, ending, word)
            assert "tide.service" in body
            run(command, "tide", "--from", path, "--out", f"t.{ending}")
            assert "/etc/tide.conf" in (tmp_path / f"t.{ending}").read_text().replace("\\", "")


DISCREET = [
    ("mara:purser owns /var/lib/x y", "(an account):(an account) owns (a file)"),
    ("/var/lib/x y/z was written", "(a file) was written"),
    ("/etc/tide.conf was written, and /etc/a.conf, too.", "(a file) was written, and (a file), too."),
    ("at /etc/tide.conf:17: “/etc/tide.conf:17: unknown option”", "at (a file):17: “(a file):17: unknown option”"),
    ("at 6:12:02 of fe80::1:2 and 1:2:3:4:5:6:7:8, see /x.", "at 6:12:02 of (an address) and (an address), see (a file)."),
    ("reads C:\\Data\\a.ini, at 06:12:02", "reads (a file), at 06:12:02"),
    ("10.0.0.1:8080 and [::1]:80 and 02:54:46:10:02:08", "(an address):8080 and (an address):80 and (an address)"),
    ("mara-board.service and mara@example.com", "mara-board.service and (an address)"),
    ("root and ratio 3/4, a/b, 1 of 2", "root and ratio 3/4, a/b, 1 of 2"),
    ("signboard@3.service", "signboard@3.service"),
    ("it (account tide) may not use /x", "it (account (an account)) may not use (a file)"),
    ("/x belongs to ebb:ebb, mode 0600", "(a file) belongs to (an account), mode 0600"),
    ("Create the user 'tide' for an account that is gone", "Create the user '(an account)' for an account that is gone"),
    ("D:/ternholm/x.toml.txt is there", "(a file) is there"),
    ("HKEY_LOCAL_MACHINE\\SYSTEM\\x is set", "(a file) is set"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "left"), DISCREET, ids=[text[:30] for text, _ in DISCREET])
def test_what_is_left_of_a_text(text: str, left: str) -> None:
    assert Discreet({"mara", "purser", "root", ""}, {"/var/lib/x y", "/x"}).text(text) == left


HOSTILE = "x</title><script>alert(1)</script>`*_[a](javascript:1)\\u202e\\u0007 -->|#"


def test_foreign_texts_stay_texts(run: Run, facts: Callable[[str], Path], tmp_path: Path) -> None:
    path = facts(
        f'- name: "h<i>"\n  services:\n  - name: a.service\n    description: "{HOSTILE}"\n    state: failed\n    startup: automatic\n'
        f'    last: {{result: exit-code, exit_status: 1, status_text: "{HOSTILE}"}}\n    links: [{{to: "{HOSTILE}"}}]\n'
        f'  events: [{{at: 2026-03-04T06:00:01Z, service: a.service, source: "{HOSTILE}", text: "{HOSTILE}"}}]\n'
    )
    for command in ("why", "about", "mend"):
        run(command, "a.service", "--from", path, "--out", "x.html", *(["--says", HOSTILE] if command == "why" else []))
        tags = Reader((tmp_path / "x.html").read_text()).tags
        assert not [tag for tag, _ in tags if tag in ("script", "i", "a")]
        run(command, "a.service", "--from", path, "--out", "x.md")
        text = (tmp_path / "x.md").read_text()
        assert (
            not re.search(r"(?<!\\)<script|(?<!\\)\[a\](?!\\)\(", text)
            and "\u202e" not in text
            and "\u0007" not in text
        )


WRONG = [
    (["why", "kiosk", "--out", "x.pdf"], "give it one of the endings .html, .md"),
    (["why", "kiosk", "--for", "customer"], "name its file with --out"),
    (["why", "kiosk", "--out", "no/such/x.md"], "cannot write"),
    (["rehearse", "--host", "gate-03", "--out", "x.svg", "--for", "customer"], "is a picture"),
    (["why", "kiosk", "--out", "."], "give it one of the endings"),
]


@pytest.mark.parametrize(("words", "says"), WRONG, ids=[" ".join(words) for words, _ in WRONG])
def test_wrong_calls_get_one_line(run: Run, demo_facts: Path, words: list[str], says: str) -> None:
    done = run(*words, "--from", demo_facts)
    assert done.status in (2, 3) and says in done.err and done.err.count("\n") == 1, done.err


SYSTEMD = Host(name="h")
LINES = [
    (acts.start("a.service"), ["systemctl reset-failed a.service", "systemctl start a.service"]),
    (acts.startup("a.service", "automatic"), ["systemctl unmask a.service", "systemctl enable a.service"]),
    (acts.startup("a.service", "disabled"), ["systemctl mask a.service"]),
    (acts.mode("/srv/a b;rm -rf $HOME", 0o640), ["chmod 0640 -- '/srv/a b;rm -rf $HOME'"]),
    (acts.owner("/srv/it's", "tide", "tide"), ["chown -- tide:tide '/srv/it'\"'\"'s'"]),
    (acts.folder("/run/x", "tide", "tide"), ["install -d -o tide -g tide -- /run/x"]),
    (acts.restart("-x.service"), ["systemctl restart -- -x.service"]),
    (acts.limit("a.service", 90), ["mkdir -p -- /etc/systemd/system/a.service.d",
        "printf '%s\\n' '[Service]' TimeoutStartSec=90 >> /etc/systemd/system/a.service.d/zz-by-hand.conf", "systemctl daemon-reload"]),
]  # fmt: skip


@pytest.mark.parametrize(("act", "lines"), LINES, ids=[act.verb for act, _ in LINES])
def test_lines_to_type_are_quoted(act: Act, lines: list[str]) -> None:
    found = shell_lines(Step("h", "does", act), SYSTEMD)
    assert [one.text for one in found if not one.remark] == lines
    for line in lines:
        done = subprocess.run(["sh", "-n", "-c", line], capture_output=True, check=False)
        assert done.returncode == 0, done.stderr


@pytest.mark.parametrize(("stood", "lines"), [("failed", 2), ("stopped", 1)])
def test_only_what_has_failed_is_reset_before_its_start(stood: str, lines: int) -> None:
    found = shell_lines(Step("h", "does", acts.start("a.service"), old=stood, new="running"), SYSTEMD)
    assert len(found) == lines and found[-1].text == "systemctl start a.service"


def test_what_destroys_comes_with_words() -> None:
    for step in (
        Step("h", "does", acts.remove("/run/x.pid")),
        Step("h", "does", acts.reboot()),
        Step("h", "does", Act("stop", "a.service"), interrupts=("b.service",), choice="a.service"),
    ):
        found = shell_lines(step, SYSTEMD)
        assert found[0].remark and not found[-1].remark
    assert shell_lines(Step("h", "does", None), SYSTEMD) == []
    assert shell_lines(Step("h", "does", acts.start("a")), Host(name="h", manager="control-manager")) == []


def test_commands_are_on_the_screen_where_somebody_asks(run: Run, demo_facts: Path) -> None:
    with_them = run("mend", "signboard@3", "--from", demo_facts, "--commands").out
    assert "systemctl start signboard@3.service" in with_them
    assert "systemctl" not in run("mend", "signboard@3", "--from", demo_facts).out
    assert "No line of a shell" in run("mend", "TicketDesk", "--from", demo_facts, "--commands").out


BROWSER = shutil.which("chromium")
MEASURE = """<script>window.onerror = (m) => document.title = 'error: ' + m;
window.onload = () => { const d = document.documentElement;
document.body.setAttribute('data-wide', JSON.stringify([...document.querySelectorAll('body *')]
  .filter(e => e.getBoundingClientRect().right > d.clientWidth + 1).map(e => e.tagName)));
document.body.setAttribute('data-over', d.scrollWidth - d.clientWidth); };</script>"""


@pytest.mark.skipif(
    BROWSER is None and os.environ.get("HOLLOW_CHAIN_LIVE") != "required", reason="chromium is not installed"
)
@pytest.mark.parametrize("width", [360, 1280])
def test_a_browser_shows_the_pages_without_overflow(run: Run, demo_facts: Path, tmp_path: Path, width: int) -> None:
    assert BROWSER is not None, "chromium is required here, and is not installed"
    for name, call in CALLS.items():
        run(*call, "--from", demo_facts, "--out", "page.html")
        text = (tmp_path / "page.html").read_text()
        # Within a frame of that width: a window of a browser has a least width of its own.
        page = text.replace("default-src 'none'; style-src", "script-src 'unsafe-inline'; style-src")
        (tmp_path / "measured.html").write_text(page.replace("</head>", f"{MEASURE}</head>"))
        frame = (
            f"<body style='margin:0'><iframe id=f src=measured.html style='border:0;width:{width}px;height:3000px'></iframe><script>"
            "f.onload = () => setTimeout(() => { const b = f.contentDocument.body; document.title = JSON.stringify("
            "[b.dataset.over, b.dataset.wide, f.contentDocument.querySelectorAll('h1').length, f.contentDocument.title]) }, 50)</script>"
        )
        (tmp_path / "frame.html").write_text(frame)
        done = subprocess.run(
            [BROWSER, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
             "--disable-background-networking", "--disable-component-update", "--disable-sync", "--allow-file-access-from-files",
             f"--user-data-dir={tmp_path / 'profile'}", "--window-size=1400,900", "--virtual-time-budget=4000", "--enable-logging=stderr",
             "--dump-dom", (tmp_path / "frame.html").as_uri()],
            capture_output=True, text=True, timeout=120, check=False,
        )  # fmt: skip
        title = re.search(r"<title>(.*?)</title>", done.stdout)
        assert title is not None, done.stdout[:500] + done.stderr[-500:]
        over, wide, headings, said = json.loads(
            title[1].replace("&quot;", '"').replace("&lt;", "<").replace("&amp;", "&")
        )
        assert (over, json.loads(wide), headings) == ("0", [], 1), (name, width, over, wide)
        assert not said.startswith("error:")
        assert "CONSOLE" not in done.stderr, done.stderr[-600:]
