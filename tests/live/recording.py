"""Record what a real host says to ``why``: the answers of the manager over D-Bus, the fields of the journal's records, and the
files that were looked at. ``tests/test_replay.py`` plays it back in milliseconds, on machines without any such host.

To record anew (root, and the daemons, are needed): ``python -m tests.live.recording [FAULT...]``.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import msgspec

from hollow_chain import cli
from hollow_chain.facts.codec import decode
from hollow_chain.sources.systemd import bus as systemd_bus
from hollow_chain.sources.systemd import journal

FOLDER = Path(__file__).parents[1] / "recorded"
RECORDED = [
    "masked, one link down",
    "masked, three links down",
    "killed by a signal",
    "two things masked",
    "a clash between two services",
    "stopped by hand, two links down",
    "working folder missing",
    "program without the right to be run",
    "a limit that is a little too short",
    "nginx: brace missing",
    "redis-server: masked four links down",
    "confined, and writes",
]
_HARD = ("Requires", "Requisite", "BindsTo", "Triggers", "TriggeredBy", "Conflicts")


def main() -> None:
    """On the host: ``OUT TARGET``. Asks why, and writes what was said to OUT."""
    out, target = sys.argv[1:3]
    said: dict[str, Any] = {"bus": [], "events": [], "told": []}
    call_on, event_of, told = systemd_bus.call_on, journal.event_of, journal.Journal.told

    async def calling(bus: Any, destination: str, path: str, interface: str, member: str, *more: Any) -> Any:
        body = await call_on(bus, destination, path, interface, member, *more)
        said["bus"].append([path, member, _plain(body)])
        return body

    def event(fields: dict[str, str], unit: str, at: Any) -> Any:
        said["events"].append([unit, at.isoformat(), {name: value for name, value in fields.items() if value}])
        return event_of(fields, unit, at)

    def telling(self: Any, fields: Any, most: int, from_head: bool = False) -> Any:
        found = told(self, fields, most, from_head)
        said["told"].append([sorted(fields.items()), [[one.at.isoformat(), *one[1:]] for one in found]])
        return found

    systemd_bus.call_on, journal.event_of, journal.Journal.told = calling, event, telling  # type: ignore[assignment,method-assign]
    cli.run(["capture", "--out", "/var/tmp/recorded.json"])
    said["target"] = target
    said["host"] = json.loads(Path("/var/tmp/recorded.json").read_text())["hosts"][0]
    Path(out).write_text(json.dumps(_lessened(said)))


def _plain(value: Any) -> Any:
    if hasattr(value, "value"):
        return _plain(value.value)
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    return value.hex() if isinstance(value, bytes) else value


def _lessened(said: dict[str, Any]) -> dict[str, Any]:
    """What bears on the target: the units that hard links lead to, and what was asked about them."""
    listed = next(body[0] for _, member, body in said["bus"] if member == "ListUnits")
    answers = [body[0] for _, member, body in said["bus"] if member == "GetAll" and isinstance(body, list)]
    asked = {facts["Id"]: facts for facts in answers if "Id" in facts}
    wanted = next(unit for unit in (said["target"], f"{said['target']}.service") if unit in asked)
    kept, stack = {wanted}, [wanted]
    while stack:
        facts = asked.get(stack.pop(), {})
        for other in [other for word in _HARD for other in facts.get(word, ())]:
            if other in asked and other not in kept and not other.endswith((".mount", ".slice", ".device")):
                kept.add(other)
                stack.append(other)
    host = said["host"]
    units = {unit: _used(asked[unit]) for unit in sorted(kept)}
    events = [one for one in said["events"] if one[0] in kept]
    spoken_of = json.dumps([units, events])
    return {
        "target": said["target"],
        "name": host["name"],
        "read_at": host["read_at"],
        "manager": _used(next(one for one in answers if "Virtualization" in one)),
        "rows": [row for row in listed if row[0] in kept],
        "units": units,
        "events": events,
        "told": said["told"],
        "files": [one for one in host.get("files", ()) if f'"{one["path"]}"' in spoken_of or f'{one["path"]}/' in spoken_of],
        "accounts": host.get("accounts", []),
    }  # fmt: skip


def _used(facts: dict[str, Any]) -> dict[str, Any]:
    """The properties that are read: what nobody asks for only makes the recording long."""
    source = "".join(path.read_text() for path in Path(systemd_bus.__file__).parent.glob("*.py"))
    return {name: value for name, value in facts.items() if f'"{name}' in source and value not in ("", [], None)}


def record(names: list[str]) -> None:
    """Put each fault into a host of its own, and record it."""
    from tests.live.realhost import RealHost
    from tests.live.test_mend_real import BY_NAME

    FOLDER.mkdir(exist_ok=True)
    for name in names:
        fault = BY_NAME[name]
        with RealHost("record", fault.boots) as host:
            host.run(fault.script, check=False)
            done = host.program(f"/var/tmp/said.json {fault.target}", entry="tests.live.recording")
            assert not done.stderr or "Traceback" not in done.stderr, done.stderr
            said = json.loads(host.run("cat /var/tmp/said.json").stdout)
            assert decode(host.run("cat /var/tmp/recorded.json").stdout.encode())
        said["wanted"] = [fault.cause, fault.place]
        path = FOLDER / f"{''.join(c if c.isalnum() else '-' for c in name)}.json"
        path.write_bytes(msgspec.json.format(msgspec.json.encode(said), indent=0) + b"\n")
        print(f"{path.name}: {path.stat().st_size // 1024} KiB {done.stderr[-300:]}")  # noqa: T201


if __name__ == "__main__":
    record(sys.argv[1:] or RECORDED)
