"""Mends on the stand-in host, through the program: planned, proven, carried out, looked at, booted anew, taken back."""

from __future__ import annotations

import json
import os
import subprocess
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from filelock import FileLock

from tests.conftest import HEAD, PROGRAM, Done, Run
from tests.test_lab import HOST

Call = tuple[str, ...]


@dataclass(frozen=True)
class Mendable:
    """A fault that a machine can mend: the calls that put it in, what is asked, and what has to be agreed to."""

    calls: tuple[Call, ...]
    target: str
    cause: str
    agreed: tuple[str, ...] = ()
    up: tuple[str, ...] = ()
    """What has to be back beside the target."""


def fault(target: str, cause: str, *calls: str, agreed: tuple[str, ...] = (), up: tuple[str, ...] = ()) -> Mendable:
    return Mendable(tuple(tuple(call.split()) for call in calls), target, cause, agreed, up)


MENDABLE = {
    "stopped by hand": fault("LaneCount", "stopped", "stop LaneCount"),
    "stopped by an update": fault("LaneCount", "maintenance-left-stopped", "fault update LaneCount"),
    "stopped, and what needs it": fault("BoardWeb", "stopped", "stop NightJob", "stop BoardWeb", "stop PlateStore"),
    "what needs it is brought back": fault("PlateStore", "stopped", "stop NightJob", "stop BoardWeb", "stop PlateStore", up=("BoardWeb",)),
    "disabled": fault("LaneCount", "disabled", "stop LaneCount", "startup LaneCount disabled"),
    "disabled since before the boot": fault("LaneCount", "disabled", "startup LaneCount disabled", "boot"),
    "disabled, one link down": fault("BoardWeb", "disabled",
                                     "stop NightJob", "stop BoardWeb", "stop PlateStore", "startup PlateStore disabled", "start BoardWeb"),
    "disabled, two links down": fault("BoardWeb", "disabled", "startup NetBase disabled", "boot", up=("PlateStore", "LaneCount")),
    "disabled, of a manual one": fault("FeedReader", "disabled", "start FeedReader"),
    "manual and not started": fault("LaneCount", "manual-not-started", "startup LaneCount manual", "boot"),
    "too slow for the one limit": fault("LaneCount", "start-timeout", "fault slow LaneCount 26s", "boot", "stop LaneCount", "start LaneCount",
                                        "stop LaneCount", "start LaneCount", "fault slow LaneCount 31s", "boot", agreed=("--reboot",)),
    "a peer has it": fault("SealPlan", "held-by-peer", "start SealGuard", "stop SealPlan", "fault peer SealPlan SealGuard", "start SealPlan",
                           agreed=("--may-stop", "SealGuard")),
    "a peer that starts at boot has it": fault("SealPlan", "held-by-peer", "fault peer SealPlan SealGuard", "startup SealPlan manual",
                                               "startup SealGuard automatic", "boot", "startup SealPlan automatic", "start SealPlan",
                                               agreed=("--may-stop", "SealGuard")),
    "uses what comes later": fault("LaneCount", "start-race", "fault hidden LaneCount PlateStore", "startup PlateStore delayed",
                                   "startup BoardWeb delayed", "boot"),
    "a delayed one was stopped": fault("NightJob", "stopped", "stop NightJob"),
    "two causes": fault("BoardWeb", "disabled", "startup NetBase disabled", "startup PlateStore disabled", "boot", up=("PlateStore",)),
}  # fmt: skip


@pytest.fixture()
def host(run: Run, tmp_path: Path) -> Path:
    """A stand-in host that has just been booted."""
    (tmp_path / "facts.yaml").write_text(HEAD + "hosts:\n" + HOST, encoding="utf-8")
    assert run("lab", "make", "host", "--from", "facts.yaml").status == 0
    assert run("lab", "boot", "host").status == 0
    return tmp_path / "host" / "host.json"


def services(path: Path) -> dict[str, dict[str, Any]]:
    return {one["name"]: one for one in json.loads(path.read_text())["hosts"][0]["services"]}


def definitions(path: Path) -> dict[str, Any]:
    """All that is set on the host, without what happens on it."""
    host = json.loads(path.read_text())["hosts"][0]
    kept = ("startup", "links", "limits", "account", "program")
    return {"limits": host["limits"]} | {
        one["name"]: {k: v for k, v in one.items() if k in kept and k != "program"} for one in host["services"]
    }


def running(path: Path) -> set[str]:
    return {name for name, one in services(path).items() if one.get("state") == "running"}


def mend(run: Run, tmp_path: Path, *words: str) -> Done:
    few = (
        () if {"--undo", "--resume"} & {*words} else ("--runs", "200")
    )  # these tests are not about the proof's decimals
    return run("mend", *words, *few, "--from", "host", "--json", HOLLOW_CHAIN_CASES=str(tmp_path / "cases.db"))


def put_in(run: Run, mendable: Mendable) -> None:
    for command, *words in mendable.calls:
        assert run("lab", command, "host", *words).status < 2


@pytest.mark.parametrize("name", MENDABLE)
def test_it_is_mended_stays_so_after_a_boot_and_can_be_taken_back(
    name: str, run: Run, tmp_path: Path, host: Path
) -> None:
    mendable = MENDABLE[name]
    put_in(run, mendable)
    set_before, run_before = definitions(host), running(host)
    planned = mend(run, tmp_path, mendable.target, *mendable.agreed)
    assert planned.status == 1 and planned.json["offered"], planned.json["proof"]
    assert mendable.cause in [answer["cause"] for one in planned.json["tries"] for answer in one["causes"]]
    assert definitions(host) == set_before  # a plan changes nothing
    if mendable.agreed:
        refused = mend(run, tmp_path, mendable.target, "--apply", "--yes")
        assert refused.status == 2 and "somebody has to agree" in refused.err
        assert definitions(host) == set_before and not list((host.parent).glob("mends/*.jsonl"))
    done = mend(run, tmp_path, mendable.target, "--apply", "--yes", *mendable.agreed)
    assert done.status == 0 and done.json["held"] is True, (done.json["summary"], done.json["checks"])
    assert running(host) >= {mendable.target, *mendable.up}
    assert run("why", mendable.target, "--from", "host").status == 0
    assert run("lab", "boot", "host").status == 0
    assert running(host) >= {mendable.target, *mendable.up}
    back = mend(run, tmp_path, "--undo", "--yes")
    assert back.status == 0, back.err
    assert definitions(host) == set_before
    if "--reboot" not in mendable.agreed:
        assert running(host) <= run_before | {"NightJob"}
    kept = run("case", "list", "--json", HOLLOW_CHAIN_CASES=str(tmp_path / "cases.db")).json["cases"]
    assert [(one["cause"], one["outcome"]) for one in kept] == [(done.json["tries"][0]["causes"][0]["cause"], "undone")]
    assert kept[0]["took_seconds"] > 0


def test_there_are_enough_of_them() -> None:
    assert len(MENDABLE) >= 15


FOR_PERSONS = {
    "a stranger has the port": fault("BoardWeb", "port-held", "fault port BoardWeb", "boot"),
    "the account is barred": fault("BoardWeb", "account-barred", "fault account PlateStore", "boot"),
    "the program is gone": fault("PlateStore", "program-missing", "fault gone PlateStore", "boot"),
    "it ends with an error": fault("PlateStore", "exits-with-error", "fault crash PlateStore", "boot"),
    "a need is not registered": fault("LostNeed", "not-registered", "start LostNeed"),
}


@pytest.mark.parametrize("name", FOR_PERSONS)
def test_what_a_machine_must_not_decide_is_said_and_not_done(name: str, run: Run, tmp_path: Path, host: Path) -> None:
    put_in(run, FOR_PERSONS[name])
    before = host.read_bytes()
    planned = mend(run, tmp_path, FOR_PERSONS[name].target)
    steps = planned.json["steps"]
    by_hand = [step["does"] for step in steps if step["by"] == "person"]
    assert planned.status == 1 and by_hand and set(by_hand) <= set(planned.json["proof"]["assumed"])
    done = mend(run, tmp_path, FOR_PERSONS[name].target, "--apply", "--yes")
    assert done.status == 1 and host.read_bytes() == before
    if planned.json["offered"]:
        assert done.json["waits_for"] == {"step": 1, "does": by_hand[0]} and done.json["held"] is False
        assert planned.json["proof"]["kind"] != "simulated"
        # It has changed nothing so far, so it is in nobody's way.
        assert (
            mend(run, tmp_path, FOR_PERSONS[name].target, "--apply", "--yes").json["waits_for"]
            == done.json["waits_for"]
        )
        assert mend(run, tmp_path, "--undo", "--yes").status == 0


def change(path: Path, what: Any) -> None:
    """A person does something on the host."""
    document = json.loads(path.read_text())
    what(document["hosts"][0])
    path.write_text(json.dumps(document))


def test_a_step_for_a_person_is_waited_for_looked_at_and_gone_on_after(run: Run, tmp_path: Path, host: Path) -> None:
    put_in(run, FOR_PERSONS["a stranger has the port"])
    put_in(run, fault("LaneCount", "stopped", "stop LaneCount"))
    waits = mend(run, tmp_path, "BoardWeb", "--apply", "--yes")
    assert (
        waits.status == 1 and waits.json["waits_for"]["step"] == 1 and "--done 1 --from host" in waits.json["way_back"]
    )
    wrong = mend(run, tmp_path, "--done", "2")
    assert wrong.status == 2 and "waits for step 1" in wrong.err
    not_yet = mend(run, tmp_path, "--done", "1")
    assert not_yet.status == 1 and "Not done yet: port-held is still found" in not_yet.json["summary"]
    change(host, lambda one: one.update(listeners=[s for s in one["listeners"] if s.get("service")]))
    run("lab", "heal", "host")
    done = mend(run, tmp_path, "--done", "1")
    assert done.status == 0 and done.json["held"] is True, done.json["summary"]
    assert "BoardWeb" in running(host) and mend(run, tmp_path, "--done", "1").status == 2
    assert mend(run, tmp_path, "--undo", "--yes", done.json["mend"]).status == 0 and "BoardWeb" not in running(host)


@pytest.mark.skipif(os.name == "nt", reason="there is no terminal to be made there")
def test_on_a_terminal_it_asks_and_shows(run: Run, tmp_path: Path, host: Path) -> None:
    import pty

    put_in(run, FOR_PERSONS["a stranger has the port"])
    ours, theirs = pty.openpty()
    os.write(ours, b"show\ny\nn\n")  # shown, said to be done although it is not, then left for later
    words = ["mend", "BoardWeb", "--from", "host", "--apply", "--yes", "--json", "--runs", "20"]
    env = {**os.environ, "HOLLOW_CHAIN_CASES": str(tmp_path / "cases.db")}
    done = subprocess.run(
        [*PROGRAM, *words], stdin=theirs, capture_output=True, cwd=tmp_path, env=env, timeout=60, check=False
    )
    os.close(ours)
    os.close(theirs)
    told = done.stderr.decode()
    assert done.returncode == 1 and told.count("Done? [y/N/show]") == 3 and "Undo: by hand" in told
    document = json.loads(done.stdout)  # what is shown on the way does not stand in the document
    assert document["waits_for"]["step"] == 1 and "Not done yet" in document["summary"]


def test_what_a_machine_can_do_before_a_person_is_done_first(run: Run, tmp_path: Path, host: Path) -> None:
    put_in(
        run,
        fault("BoardWeb", "disabled", "startup PlateStore disabled", "fault port BoardWeb", "boot", "stop LaneCount"),
    )
    refused = {"result": "exit-code", "error_number": 10048, "ended_at": "2026-03-04T05:09:00Z"}

    def bind_failed(one: dict[str, Any]) -> None:
        for service in one["services"]:
            if service["name"] == "BoardWeb":
                service["last"] = refused

    change(host, bind_failed)
    waits = mend(run, tmp_path, "BoardWeb", "--apply", "--yes")
    number = waits.json["waits_for"]["step"]
    assert waits.status == 1 and number > 1 and services(host)["PlateStore"]["startup"] == "automatic"
    barred = mend(run, tmp_path, "LaneCount", "--apply", "--yes")
    assert barred.status == 2 and f"--done {number}" in barred.err
    assert mend(run, tmp_path, "--undo", "--yes").status == 0 and services(host)["PlateStore"]["startup"] == "disabled"


def test_a_mend_that_does_not_hold_says_so_and_offers_the_way_back(run: Run, tmp_path: Path, host: Path) -> None:
    run("lab", "stop", "host", "LaneCount")
    run("lab", "fault", "host", "crash", "LaneCount", "2s")  # nothing of it shows before it is started
    set_before = definitions(host)
    done = mend(run, tmp_path, "LaneCount", "--apply", "--yes")
    assert done.status == 4 and done.json["held"] is False
    assert next(check["check"] for check in done.json["checks"] if not check["well"]) == "running"
    assert f"--undo {done.json['mend']}" in done.json["way_back"]
    assert mend(run, tmp_path, "--undo", "--yes", done.json["mend"]).status == 0
    assert definitions(host) == set_before
    again = mend(run, tmp_path, "--undo", "--yes", done.json["mend"])
    assert again.status == 2 and "already" in again.err


def test_a_healthy_target_needs_no_mend(run: Run, tmp_path: Path, host: Path) -> None:
    before = host.read_bytes()
    for words in (("BoardWeb",), ("BoardWeb", "--apply", "--yes")):
        done = mend(run, tmp_path, *words)
        assert done.status == 0 and done.json["steps"] == [] and done.json["applied"] is False
    assert host.read_bytes() == before
    run("lab", "start", "host", "SealGuard")
    lasting = mend(run, tmp_path, "SealGuard")
    assert [step["new"] for step in lasting.json["steps"]] == ["automatic"]
    assert mend(run, tmp_path, "SealGuard", "--now-only").json["steps"] == []


WRONG_CALLS = [
    ((), "name one TARGET"),
    (("BoardWeb", "--apply", "--undo"), "exclude"),
    (("LaneCount", "--apply"), "--yes"),
    (("--undo", "--yes"), "nothing to undo"),
    (("--undo", "../x", "--yes"), "no mend"),
    (("--resume",), "interrupted"),
    (("nobody-here", "--may-stop", "Nobody", "--apply"), "--yes"),
]


@pytest.mark.parametrize(("words", "said"), WRONG_CALLS, ids=[said for _, said in WRONG_CALLS])
def test_wrong_calls_are_told_in_a_line(
    words: tuple[str, ...], said: str, run: Run, tmp_path: Path, host: Path
) -> None:
    run("lab", "stop", "host", "LaneCount")
    if words[:1] == ("nobody-here",):
        assert mend(run, tmp_path, "nobody-here").status in (1, 2)
        return
    before = host.read_bytes()
    done = mend(run, tmp_path, *words)
    assert done.status == 2 and said in done.err and len(done.err.strip().splitlines()) == 1
    assert host.read_bytes() == before


def test_facts_are_no_host(run: Run, demo_facts: Path) -> None:
    done = run("mend", "kiosk", "--from", demo_facts, "--apply", "--yes")
    assert done.status == 2 and "holds facts, not a host" in done.err


def test_a_plan_is_never_carried_out_or_taken_back_elsewhere(run: Run, tmp_path: Path, host: Path) -> None:
    import shutil

    run("lab", "stop", "host", "LaneCount")
    assert mend(run, tmp_path, "LaneCount", "--apply", "--yes").status == 0
    shutil.copytree(tmp_path / "host", tmp_path / "other")
    before = (tmp_path / "other" / "host.json").read_bytes()
    done = run("mend", "--undo", "--yes", "--from", "other")
    assert done.status == 2 and "another host" in done.err
    assert (tmp_path / "other" / "host.json").read_bytes() == before


def test_two_menders_do_not_meet(run: Run, tmp_path: Path, host: Path) -> None:
    run("lab", "stop", "host", "LaneCount")
    (host.parent / "mends").mkdir()
    before = host.read_bytes()
    with FileLock(host.parent / "mends" / ".lock"):
        done = mend(run, tmp_path, "LaneCount", "--apply", "--yes")
    assert done.status == 2 and "at this moment" in done.err and host.read_bytes() == before
