"""Plans and their proofs, through the program, on facts written down as data."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import HEAD, Run

Facts = Callable[[str], Path]
TOP = """- name: quay
  read_at: 2026-03-04T06:12:09Z
  boot_at: 2026-03-03T20:00:00Z
  default_target: multi-user.target
  cores: 4
"""
TARGET = "  - {name: multi-user.target, kind: target, state: running, startup: on-need, links: [%s]}\n"


def service(name: str, more: str = "", state: str = "running", startup: str = "automatic") -> str:
    """One service of a systemd host; *more* are further keys."""
    return (f"  - {{name: {name}, state: {state}, startup: {startup}, program: {{path: /usr/bin/{name.partition('.')[0]}, style: simple}}"
            f"{', ' + more if more else ''}}}\n")  # fmt: skip


def host(*services: str, more: str = "") -> str:
    wanted = [one.split("name: ")[1].split(",")[0] for one in services if "startup: automatic" in one]
    return (
        TOP
        + more
        + "  services:\n"
        + TARGET % ", ".join(f"{{to: {name}, kind: soft}}" for name in wanted)
        + "".join(services)
    )


def needs(*names: str) -> str:
    links = [f"{{to: {name}}}, {{to: {name}, kind: order, pulls: false}}" for name in names]
    return f"links: [{', '.join(links)}]"


STOPPED = "last: {result: success, started_at: 2026-03-03T20:00:05Z, up_at: 2026-03-03T20:00:05Z, ended_at: 2026-03-04T05:00:00Z}"


@pytest.fixture()
def plan(run: Run, facts: Facts) -> Callable[..., Any]:
    """The plan for a target on a host; ``status`` of the call is 1 where there is one."""

    def made(text: str, target: str, *words: str) -> Any:
        done = run("mend", target, "--from", facts(text), "--json", "--runs", "200", *words)
        assert done.status == (1 if done.json["tries"] else 0)
        return done.json

    return made


def does(plan: Any) -> list[str]:
    return [step["does"] for step in plan["steps"]]


def test_deepest_first_and_nothing_that_can_be_left_out(plan: Callable[..., Any]) -> None:
    text = host(
        service("top.service", needs("middle.service"), "stopped"),
        service("middle.service", needs("low.service"), "stopped"),
        service("low.service", "wanted_by: [multi-user.target], definition: {load: masked}", "stopped", "disabled"),
    )
    made = plan(text, "top")
    assert does(made) == [
        "Let low.service be started again, as automatic",
        "Start top.service, and with it low.service, middle.service",
    ]
    first, second = made["steps"]
    assert (first["old"], first["new"], first["effect"], first["undo"]) == (
        "disabled",
        "automatic",
        "at once",
        "back to disabled",
    )
    assert first["also_touches"] == ["middle.service"] and first["on"] == second["on"] == "quay"
    proof = made["proof"]
    assert proof["sufficient"] and proof["minimal"] and proof["harmless"] and proof["up"] == 1.0
    assert made["offered"] and made["applied"] is False and made["held"] is None


def test_two_causes_are_both_mended(plan: Callable[..., Any]) -> None:
    text = host(
        service("top.service", needs("a.service", "b.service"), "failed"),
        service("a.service", "wanted_by: [multi-user.target], definition: {load: masked}", "stopped", "disabled"),
        service("b.service", STOPPED, "stopped"),
    )
    made = plan(text, "top")
    assert {answer["cause"] for one in made["tries"] for answer in one["causes"]} >= {"disabled"}
    assert does(made)[0] == "Let a.service be started again, as automatic" and does(made)[-1].startswith(
        "Start top.service"
    )
    assert made["offered"]


def test_what_went_down_with_it_is_brought_back(plan: Callable[..., Any]) -> None:
    text = host(service("desk.service", needs("store.service"), "failed"), service("store.service", STOPPED, "stopped"))
    made = plan(text, "store")
    assert does(made) == ["Start desk.service, and with it store.service"]


def test_a_manual_one_is_set_to_start_at_boot_unless_that_is_not_wanted(plan: Callable[..., Any]) -> None:
    text = host(service("desk.service", "", "stopped", "manual"))
    made = plan(text, "desk")
    assert sorted(step["new"] for step in made["steps"]) == ["automatic", "running"]
    lasting = next(step for step in made["steps"] if step["new"] == "automatic")
    assert lasting["effect"] == "after reboot" and made["proof"]["up_after_reboot"] == 1.0
    now = plan(text, "desk", "--now-only")
    assert [step["new"] for step in now["steps"]] == ["running"] and now["proof"]["up_after_reboot"] is None


def test_what_holds_the_port_gives_way_only_to_a_word(plan: Callable[..., Any]) -> None:
    text = host(
        service("web.service", "last: {result: exit-code, exit_status: 1}, claims: [{port: 80}]", "failed"),
        service("squat.service", "claims: [{port: 80}]", "running", "manual"),
        service("guest.service", needs("squat.service"), "running", "manual"),
        more="  sockets_read: true\n  listeners: [{port: 80, process: 7, program: /usr/bin/squat, service: squat.service}]\n"
        "  events: [{at: 2026-03-04T06:00:00Z, service: web.service, text: 'bind 0.0.0.0:80: Address already in use'}]\n",
    )  # fmt: skip
    # What is needed and runs is not stopped where there is another way; that it could be is told, with what it takes along.
    made = plan(text, "web")
    assert made["offered"] and not any(step["interrupts"] or step["needs_consent"] for step in made["steps"])
    assert [step["proof"] for step in made["steps"]] == ["assumed", "assumed"] and made["proof"]["kind"] == "assumed"
    assert any("guest.service" in hint and "--may-stop squat.service" in hint for hint in made["tries"][0]["hints"])
    alone = plan(text.replace(service("guest.service", needs("squat.service"), "running", "manual"), ""), "web")
    stop = next(step for step in alone["steps"] if step["does"] == "Stop squat.service")
    assert stop["needs_consent"] == "squat.service" and stop["interrupts"] == alone["tries"][0]["stops"] == [
        "squat.service"
    ]
    assert alone["offered"] and "Stop squat.service" in alone["proof"]["assumed"]
    agreed = plan(text, "web", "--may-stop", "squat")
    assert not any(step["needs_consent"] for step in agreed["steps"]) and agreed["given_up"] == ["squat.service"]
    assert agreed["proof"]["assumed"] == []


def test_a_plan_that_harms_is_not_offered(plan: Callable[..., Any]) -> None:
    """Both start at boot and want one port: mending the one takes the port from the other in half of the boots."""
    text = host(
        service("one.service", f"claims: [{{port: 80, source: a}}], wanted_by: [multi-user.target], definition: {{load: masked}}, {STOPPED}",
                "stopped", "disabled"),
        service("two.service", "claims: [{port: 80, source: b}]", "stopped"),
    )  # fmt: skip
    made = plan(text, "one")
    assert not made["offered"] and not made["proof"]["harmless"]
    assert any("two.service" in harm and "after a reboot" in harm for harm in made["proof"]["harms"])


def test_a_stop_by_hand_is_simulated_with_all_that_it_takes_along_on_every_host(run: Run, tmp_path: Path) -> None:
    """The process behind the port hosts two services; one of them is needed here, the other one from another host."""
    quay = (
        "hosts:\n- name: quay\n  manager: control-manager\n  read_at: 2026-03-04T06:12:09Z\n  boot_at: 2026-03-03T20:00:00Z\n  sockets_read: true\n"
        "  listeners: [{port: 80, process: 4, program: hosting, service: Pages, shared_with: [Pages, Remote]}]\n"
        "  events: [{at: 2026-03-04T06:00:00Z, service: Boards, text: 'bind 0.0.0.0:80: Address already in use'}]\n  services:\n"
        "  - {name: Boards, state: stopped, startup: automatic, claims: [{port: 80}], last: {result: exit-code, error_number: 1067}}\n"
        "  - {name: Pages, state: running, startup: automatic}\n  - {name: Remote, state: running, startup: automatic}\n"
        "  - {name: Store, state: running, startup: automatic, links: [{to: Remote}]}\n"
        "- name: far\n  manager: control-manager\n  read_at: 2026-03-04T06:12:09Z\n  services:\n"
        "  - {name: Kiosk, state: running, startup: automatic, links: [{to: Pages, host: quay}]}\n"
    )
    (tmp_path / "facts.yaml").write_text(HEAD + quay)
    made = run("mend", "Boards", "--from", "facts.yaml", "--json", "--runs", "40").json
    assert made["offered"] and not any(step["interrupts"] for step in made["steps"]), made["steps"]
    hint = next(hint for hint in made["tries"][0]["hints"] if "--may-stop" in hint)
    assert all(name in hint for name in ("Pages", "Remote", "Store", "Kiosk on far")), hint
    given = run(
        "mend",
        "Boards",
        "--from",
        "facts.yaml",
        "--json",
        "--runs",
        "40",
        "--may-stop",
        "Pages",
        "--may-stop",
        "Remote",
    ).json
    stop = given["steps"][0]
    assert stop["by"] == "person" and {"Pages", "Remote", "Store", "Kiosk on far"} <= set(stop["interrupts"])
    assert {act["verb"] for act in stop["means"]} == {"startup", "stop"} and given["offered"], given["proof"]
    assert {"Pages on quay", "Remote on quay", "Store on quay"} <= set(given["proof"]["gives_way"])


RIGHTS = {
    "a file of root that is to be read": (
        "{path: /var/lib/desk/plan.conf, owner: root, group: root, mode: '0600'}", "open /var/lib/desk/plan.conf: Permission denied",
        [("root:root", "mate:root")]),
    "a file of its group": (
        "{path: /srv/boards/plan.conf, owner: root, group: mates, mode: '0600'}", "open /srv/boards/plan.conf: Permission denied",
        [("0600", "0640")]),
    "its own file": (
        "{path: /srv/plan.conf, owner: mate, group: mates, mode: '0200'}", "open /srv/plan.conf: Permission denied", [("0200", "0600")]),
    "a folder that it writes to": (
        "{path: /var/lib/desk, kind: folder, owner: root, group: root, mode: '0755'}", "cannot write /var/lib/desk: Permission denied",
        [("root:root", "mate:root")]),
    "a folder on the way": (
        "{path: /srv/deck, kind: folder, owner: root, group: root, mode: '0700'}, {path: /srv/deck/x, owner: root, group: root, mode: '0644'}",
        "open /srv/deck/x: Permission denied", [("root:root", "root:mates"), ("0700", "0710")]),
}  # fmt: skip
NOT_OPENED = {
    "somebody else's": "{path: /srv/plan.conf, owner: purser, group: purser, mode: '0600'}",
    "with a list": "{path: /srv/plan.conf, owner: root, group: root, mode: '0600', acl: ['user:cook:r--']}",
    "one that runs as its owner": "{path: /srv/plan.conf, owner: root, group: root, mode: '4700'}",
    "a group that uses it": "{path: /srv/plan.conf, owner: root, group: cooks, mode: '0640'}",
}
ACCOUNT = "  accounts: [{name: mate, id: 1001, groups: [mates]}]\n"
DENIED = (
    "last: {result: exit-code, exit_status: 1}, account: {user: mate}, program: {path: /usr/bin/desk, arguments: [/usr/bin/desk, "
    "--plan=/srv/plan.conf, 'read /srv/deck/x'], log_files: [/etc/desk/site.key, /usr/bin/desk-tool]}, "
    "confinement: {writable: [/srv/deck, /srv/boards]}"
)


def denied(files: str, words: str) -> str:
    events = f"  events: [{{at: 2026-03-04T06:00:00Z, service: desk.service, text: '{words}'}}]\n"
    return host(service("desk.service", DENIED, "failed"), more=f"{ACCOUNT}  files: [{files}]\n{events}")


NOT_GIVEN = {
    "a program of its own package that its settings name": ("/usr/bin/desk-tool", "package: desk, "),
    "a program in a folder of its own": ("/var/lib/desk/tool", "PROGRAM, "),
    "what another session has while it runs": ("/run/user/0/desk", ""),
    "a folder that bears the name of its account only": ("/var/lib/mate/db", ""),
    "what only root may use, though its definition names it": ("/srv/plan.conf", ""),
    "the accounts of the host": ("/etc/passwd", ""),
    "a key of root's": ("/etc/desk/site.key", ""),
    "another one's folder": ("/home/cook/x", ""),
    "beside what the definition names": ("/srv/plan.conf.old", ""),
    "a folder of all": ("/var/lib", "kind: folder, "),
    "what another package has": ("/var/lib/desk/db", "package: 'dbtools', "),
    "through a link of others": ("/var/lib/desk/db", "link_to: /etc/shadow, "),
    "with a way up in it": ("/var/lib/desk/../../../etc/passwd", ""),
}


@pytest.mark.parametrize("name", NOT_GIVEN)
def test_what_the_definition_does_not_give_is_not_opened_by_a_machine(name: str, plan: Callable[..., Any]) -> None:
    path, more = NOT_GIVEN[name]
    mode = "0755" if "PROGRAM" in more else "0600"
    files = f"{{path: '{path}', {more.removeprefix('PROGRAM, ')}owner: root, group: root, mode: '{mode}'}}"
    made = plan(denied(files, f"cannot write {path}: Permission denied"), "desk")
    assert made["steps"][0]["by"] == "person", made["steps"]
    assert not any(
        step["does"].startswith(("Give", "Set the mode")) and step["by"] == "machine" for step in made["steps"]
    )


def test_a_working_folder_behind_a_link_is_not_made_by_a_machine(plan: Callable[..., Any]) -> None:
    program = "program: {path: /usr/bin/desk, folder: /home/crew/w/run}"
    text = host(
        service("desk.service", f"last: {{result: exit-code, exit_status: 200}}, {program}", "failed"),
        more="  files: [{path: /home/crew/w/run, exists: false, link_to: /etc/run}]\n",
    )
    made = plan(text, "desk")
    assert made["steps"][0]["by"] == "person" and "leads to /etc/run" in made["steps"][0]["does"]


CONFINED = "last: {result: exit-code, exit_status: 1}, confinement: {read_only: [/]}"


@pytest.mark.parametrize(
    ("path", "opened"), [("/var/lib/desk/log", "/var/lib/desk"), ("/var/lib/log", ""), ("/log", "")]
)
def test_what_the_definition_closes_is_opened_no_wider_than_needed(
    path: str, opened: str, plan: Callable[..., Any]
) -> None:
    text = f"cannot write {path}: Read-only file system"
    events = f"  events: [{{at: 2026-03-04T06:00:00Z, service: desk.service, text: '{text}'}}]\n"
    folder = path.rpartition("/")[0] or "/"
    files = f"  files: [{{path: {path}, exists: false}}, {{path: {folder}, kind: folder, owner: root, group: root, mode: '0755'}}]\n"
    made = plan(host(service("desk.service", CONFINED, "failed"), more=files + events), "desk")
    settings = [step["does"] for step in made["steps"] if "ReadWritePaths" in step["does"]]
    assert settings == ([f"Add to the definition of desk.service: ReadWritePaths={opened}"] if opened else [])
    assert made["steps"][0]["by"] == ("machine" if opened else "person")


@pytest.mark.parametrize("name", RIGHTS)
def test_rights_are_the_smallest_that_are_enough(name: str, plan: Callable[..., Any]) -> None:
    files, words, wanted = RIGHTS[name]
    made = plan(denied(files, words), "desk")
    assert made["offered"]
    assert [(step["old"], step["new"]) for step in made["steps"] if step["new"] != "running"] == wanted
    for _, new in wanted:
        assert (
            not new.isdigit() or int(new, 8) & 7 == 0 or int(new, 8) & 7 == int(wanted[0][0], 8) & 7
        )  # nothing for others


def test_a_folder_of_data_that_is_all_roots_is_given_with_all_in_it(plan: Callable[..., Any]) -> None:
    folder = "{path: /var/lib/desk, kind: folder, owner: root, group: root, mode: '0700'}"
    inside = "{path: /var/lib/desk/db, owner: OWNER, group: root, mode: '0600'}"
    words = "cannot write /var/lib/desk: Permission denied"
    all_of_root = plan(denied(f"{folder}, {inside.replace('OWNER', 'root')}", words), "desk")
    assert does(all_of_root)[0] == "Give /var/lib/desk, and all of root's in it, to mate:mates"
    assert all_of_root["steps"][0]["proof"] == "assumed" and all_of_root["proof"]["kind"] == "assumed"
    mixed = plan(denied(f"{folder}, {inside.replace('OWNER', 'mate')}", words), "desk")
    assert (
        does(mixed)[0] == "Give /var/lib/desk to mate:root"
    )  # what is root's among the account's own may be so for a reason


OPEN = {
    "its own key": ("/var/lib/desk/key", "mate", "machine", "0600"),
    "by the mode that the program names": ("/var/lib/desk/key", "mate", "machine", "0400"),
    "what is not given to it": ("/etc/desk/key", "root", "person", ""),
    "the accounts of the host": ("/etc/passwd", "root", "person", ""),
}


@pytest.mark.parametrize("name", OPEN)
def test_what_is_too_open_is_narrowed_by_a_machine_where_it_is_the_services_own(
    name: str, plan: Callable[..., Any]
) -> None:
    path, owner, who, mode = OPEN[name]
    says = f"Permissions 0644 for {path} are too open" + (", it has to be 0400" if mode == "0400" else "")
    made = plan(denied(f"{{path: {path}, owner: {owner}, group: mates, mode: '0644'}}", says), "desk")
    step = made["steps"][0]
    assert step["by"] == who and (who == "person" or step["new"] == mode), made["steps"]


@pytest.mark.parametrize("name", NOT_OPENED)
def test_what_is_somebody_elses_is_not_opened_by_a_machine(name: str, plan: Callable[..., Any]) -> None:
    made = plan(denied(NOT_OPENED[name], "open /srv/plan.conf: Permission denied"), "desk")
    assert [step["by"] for step in made["steps"]] == ["person", "machine"]
    assert made["proof"]["assumed"] == [made["steps"][0]["does"]]


def test_steps_on_other_hosts_say_where(run: Run, tmp_path: Path) -> None:
    near = host(service("desk.service", "links: [{to: store.service, host: pier}]", "failed"))
    far = host(service("store.service", STOPPED, "stopped")).replace("name: quay", "name: pier", 1)
    (tmp_path / "both.yaml").write_text(HEAD + "hosts:\n" + near + far, encoding="utf-8")
    made = run("mend", "desk", "--from", "both.yaml", "--json").json
    assert [step["on"] for step in made["steps"]] == ["pier", "quay"] and made["offered"]
    shown = run("mend", "desk", "--from", "both.yaml").out
    assert "Start store.service  on pier" in shown


def test_a_cause_for_a_person_is_a_step_with_words(plan: Callable[..., Any]) -> None:
    text = host(
        service("desk.service", "last: {result: exit-code, exit_status: 203}", "failed"),
        more="  files: [{path: /usr/bin/desk, exists: false}]\n",
    )
    made = plan(text, "desk")
    person, start = made["steps"]
    assert person["by"] == "person" and "/usr/bin/desk" in person["does"] and start["by"] == "machine"
    assert made["tries"][0]["hints"] == ["Or correct the path in the definition of desk.service."]
    assert made["proof"]["assumed"] == [person["does"]] and made["offered"]


def test_what_an_event_starts_is_tried_again_where_it_failed(plan: Callable[..., Any]) -> None:
    failed = "triggers: [{kind: timer, name: tidy.timer}], last: {result: exit-code, exit_status: 203}"
    timer = "  - {name: tidy.timer, kind: timer, state: running, startup: automatic}\n"
    text = host(
        service("tidy.service", failed, "failed", "event").replace("style: simple", "style: oneshot"), timer,
        more="  files: [{path: /usr/bin/tidy, owner: root, group: root, mode: '0644', executable: false, format: script}]\n",
    )  # fmt: skip
    made = plan(text, "tidy.service")
    assert does(made) == ["Set the mode of /usr/bin/tidy to 0744", "Start tidy.service"]
    assert made["offered"] and made["proof"]["up_after_reboot"] is None


def test_what_is_not_registered_is_for_a_person(plan: Callable[..., Any]) -> None:
    made = plan(host(service("desk.service")), "nobody-knows-this.service")
    assert [step["by"] for step in made["steps"]] == ["person"] and made["steps"][0]["does"].startswith("Register")
    below = plan(host(service("desk.service", needs("lost.service"), "failed")), "desk")
    assert [step["by"] for step in below["steps"]] == ["person", "machine"] and below["offered"]


def test_hostile_names_do_not_reach_the_terminal_raw(run: Run, facts: Facts) -> None:
    name = '"de\\u001b[31msk.service"'
    text = host(f"  - {{name: {name}, state: stopped, startup: automatic, {STOPPED}}}\n")
    done = run("mend", "--from", facts(text), "--", "de")
    assert done.status == 1 and "\x1b" not in done.out + done.err
    assert "\x1b" not in run("mend", "--from", facts(text), "--json", "--", "de").out


def test_equal_seeds_give_equal_proofs(plan: Callable[..., Any]) -> None:
    slow = "limits: {start_seconds: 5}, starts: [{at: 2026-03-02T06:00:00Z, seconds: 4.2}, {at: 2026-03-02T07:00:00Z, seconds: 4.6}]"
    text = host(service("desk.service", f"{slow}, {STOPPED}", "stopped").replace("style: simple", "style: notify"))
    one, two = (plan(text, "desk", "--seed", "5") for _ in range(2))
    assert one == two and 0 < one["proof"]["up"] < 1
