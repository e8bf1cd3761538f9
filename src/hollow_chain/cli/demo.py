"""``demo``: one call from symptom to mend, on the demo data."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Sequence
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from hollow_chain.cli import common
from hollow_chain.trouble import Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.show.page import Page


class Scene(NamedTuple):
    """A step of the story: what is going on, and the call."""

    said: str
    call: list[str]
    more: bool = False
    """Whether it is told with ``--all-troubles`` only."""

    @property
    def needs(self) -> str:
        """What it takes that a plain install has not: ``pictures``, ``fleet``; empty: nothing."""
        if any(word.endswith(".png") for word in self.call):
            return "pictures"
        return "fleet" if "{folder}/readings" in self.call else ""


_BRINGS = {"pictures": "matplotlib", "fleet": "pyarrow"}
"""The package by which each extra is known to be there."""


def _has(extra: str) -> bool:
    try:
        return not extra or find_spec(_BRINGS[extra]) is not None
    except ValueError:  # what is kept from being imported has no specification
        return False


_ALL = ["--from", "{facts}"]
_OFFICE = ["--from", "{folder}/office"]
STORY = (
    Scene(
        "A call comes in: the boarding kiosk at gate 3 hangs at its first screen. First find it by what one remembers.",
        ["roster", "kiosk", *_ALL],
    ),
    Scene("It runs, and yet it hangs. What does it depend on?", ["why", "kiosk", *_ALL]),
    Scene("That was well yesterday. What was changed on the office server?", ["changes", *_ALL, "--host", "office-01"]),
    Scene(
        "Before anything is changed: what hangs on that service, and what would a stop of it take along?",
        ["links", "TimetableStore", *_ALL, "--depth", "3"],
    ),
    Scene(
        "The same as a picture.",
        ["links", "TimetableStore", *_ALL, "--depth", "3", "--out", "{folder}/links.png"],
        more=True,
    ),
    Scene("Meanwhile someone reports that the morning reports are down. A false alarm:", ["why", "ReportMill", *_ALL]),
    Scene("The barrier of the car lane stays down. All of that service on one page:", ["about", "barrier", *_ALL]),
    Scene(
        "The route optimizer does not start either. It needs a seat from a license server on another host.",
        ["why", "RouteOptimizer", *_ALL],
        more=True,
    ),
    Scene(
        "Which ports clash on the operations server?", ["ports", *_ALL, "--host", "pierhead", "--clashes"], more=True
    ),
    Scene(
        "The planning workstation is to be rebooted tonight. Will these three be up then?",
        ["rehearse", "BridgeScreens", "PassagePlots", "ChartServer", *_ALL, "--host", "voyage-ws"],
    ),
    Scene("And all of that boot:", ["rehearse", *_ALL, "--host", "voyage-ws"], more=True),
    Scene(
        "What would a longer start limit mend there? Only supposed, nothing is changed.",
        ["suppose", "limit all 60s", *_ALL, "--host", "voyage-ws"],
        more=True,
    ),
    Scene(
        "The boot of the operations server, as a picture.",
        ["rehearse", *_ALL, "--host", "pierhead", "--out", "{folder}/boot.png"],
        more=True,
    ),
    Scene("What else is not well at Ternholm Ferries this morning?", ["why", "--all", *_ALL], more=True),
    Scene(
        "Now the kiosk is to be mended. What is to be done, on which host, in which order, and what proves that it is enough?",
        ["mend", "kiosk", *_ALL],
    ),
    Scene(
        "A plan is carried out on the machine itself. Here a stand-in takes the place of the office server.",
        ["lab", "make", "{folder}/office", *_ALL, "--host", "office-01"],
    ),
    Scene(
        "On it the plan for that host is carried out, looked at after each step, and watched for a minute.",
        ["mend", "TimetableStore", *_OFFICE, "--apply", "--yes", "--watch", "60", "--store", "{folder}/cases.db"],
    ),
    Scene(
        "The case is kept: confirmed ones teach 'why' what is usual here.",
        ["case", "confirm", "1", "--note", "an update had left it disabled", "--store", "{folder}/cases.db"],
    ),
    Scene(
        "And a page for the ticket.",
        ["case", "show", "1", "--out", "{folder}/ticket.html", "--store", "{folder}/cases.db"],
    ),
    Scene(
        "A new program has come: the tide display. It becomes a service there, which needs the timetable.",
        [
            "register",
            r"D:\ferries\tide\tidedisplay.exe",
            *("--name", "TideDisplay", "--shown-as", "Ternholm Tide Display"),
            *("--describe", "Shows how high the water stands at the ramps"),
            *("--needs", "TimetableStore", "--port", "7780", *_OFFICE, "--apply", "--yes", "--", "--ramps", "3"),
        ],
        more=True,
    ),
    Scene(
        "The print queue had failed at that boot, and nothing tells why. It is started once, and watched.",
        ["observe", "HarborPrint", *_OFFICE, "--yes"],
        more=True,
    ),
    Scene(
        "Forty ticket counters are read every morning, and kept. This was Tuesday.",
        ["capture", "--from", "{folder}/counters-tuesday.toml", "--keep", "{folder}/readings"],
        more=True,
    ),
    Scene(
        "And this is Wednesday, after an update that some have had.",
        ["capture", "--from", "{folder}/counters-wednesday.toml", "--keep", "{folder}/readings"],
        more=True,
    ),
    Scene(
        "What is wrong where, and what have those counters in common?",
        ["survey", "--from", "{folder}/readings", "--by", "group"],
        more=True,
    ),
    Scene(
        "One of them worked yesterday. What is otherwise now?",
        ["drift", "counter-05", "--from", "{folder}/readings"],
        more=True,
    ),
    Scene(
        "The facts of all hosts are read again, after the same was done on each. Is all well below the kiosk?",
        ["why", "kiosk", "--from", "{mended}"],
    ),
)


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("demo")(demo)


def demo(
    out: Annotated[Path, typer.Option("--out", help="Folder to leave the files in; made if it is not there.")] = Path(
        "hollow-chain-demo"
    ),
    all_troubles: Annotated[
        bool, typer.Option("--all-troubles", help="The whole of it: pictures, ports, a registration, every trouble.")
    ] = False,
    no_pause: Annotated[bool, typer.Option("--no-pause", help="On a terminal: do not wait between the steps.")] = False,
) -> int:
    """Tell one call from symptom to mend on the demo data; the files stay for trying things."""
    from hollow_chain.show.page import Page

    facts, mended = out / "facts", out / "mended"
    _lay_out(facts, mended)
    _clear(out)
    page = Page()
    page.line(
        ("Ternholm Ferries, a small company of our invention: six hosts, about a hundred and twenty services.", "bold")
    )
    words = {"facts": str(facts), "mended": str(mended), "folder": str(out)}
    wanted = [scene for scene in STORY if all_troubles or not scene.more]
    scenes = [scene for scene in wanted if _has(scene.needs)]
    for extra in dict.fromkeys(scene.needs for scene in wanted if not _has(scene.needs)):
        what = "pictures are" if extra == "pictures" else "the forty counters are"
        common.warn(f"{what} left out: pip install 'hollow-chain[{extra}]'")
    if any(scene.needs == "fleet" for scene in scenes):
        _lay_out_counters(out)
    waits = not no_pause and sys.stdin.isatty() and sys.stdout.isatty()
    for number, scene in enumerate(scenes, 1):
        page.gap()
        page.line((f"Step {number} of {len(scenes)}. {scene.said}", "bold color(31)"))
        call = [word.format(**words) for word in scene.call]
        page.line((f"$ hollow-chain {common.shown(shlex.join(call))}", "bold"))
        page.gap()
        _run(call)
        if waits and number < len(scenes) and not _goes_on():
            break
    _end(page, out, facts, _troubles() if all_troubles else ())
    return 0


def _goes_on() -> bool:
    """Wait until whoever reads has read."""
    sys.stderr.write("\n-- Enter goes on, q ends: ")
    sys.stderr.flush()
    answer = sys.stdin.readline()
    return bool(answer) and answer.strip().casefold() not in ("q", "quit")


def _end(page: Page, out: Path, facts: Path, troubles: Sequence[tuple[str, str, str]]) -> None:
    common.write_out(out / "verdict.json", _verdict(facts), named=False)
    page.gap()
    made = ["verdict.json"]
    kept = ("office", "cases.db", "ticket.html", "links.png", "boot.png", "readings", "counters-wednesday.toml")
    made += [name for name in kept if (out / name).exists()]
    page.line(
        (
            f"The files are in {common.shown(out)}: facts/ (as read), mended/ (after the mend), {', '.join(made)}.",
            "bold",
        )
    )
    if not troubles:
        page.line(
            f"More of it, and {len(_troubles())} troubles to try: hollow-chain demo --all-troubles; or, such as: "
            f"hollow-chain why RouteOptimizer --from {common.shown(facts)}"
        )
        return
    page.line(
        f"Take back what was done to the stand-in: 'hollow-chain register --undo', then 'hollow-chain mend --undo', each with "
        f"--from {common.shown(out / 'office')}"
    )
    page.gap()
    page.line(f"More to try, with 'hollow-chain why NAME --from {common.shown(facts)}'; NAME is one of:")
    for target, host, matter in troubles[1:]:
        page.line((f"{target:<16}", "bold"), (f" {host:<10} ", "dim"), matter, indent=2, hang=28)


def _troubles() -> Sequence[tuple[str, str, str]]:
    from hollow_chain.demo import TROUBLES

    return TROUBLES


def _run(call: list[str]) -> None:
    from hollow_chain.cli import run

    status = run(call)
    if status > 1:
        raise wrong_call(f"the demo's step '{' '.join(call)}' ended with status {status}")


def _lay_out(facts: Path, mended: Path) -> None:
    """Put the demo's snapshots into *facts*, and a copy with the story's mend carried out into *mended*."""
    from hollow_chain.demo import snapshots
    from hollow_chain.sources.files import check_link

    for folder in (facts, mended):
        check_link(folder.parent)
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise wrong_call(f"cannot make the folder {folder}: {(error.strerror or str(error)).lower()}") from None
    for source in snapshots():
        data = source.read_bytes()
        common.write_out(facts / source.name, data, named=False)
        common.write_out(mended / source.name.replace(".yaml", ".json"), _after_the_mend(data), named=False)


def _lay_out_counters(out: Path) -> None:
    """Put the snapshots of the counters of both days into *out*, with a file of hosts for each day."""
    from msgspec.structs import replace

    from hollow_chain.demo.counters import counters, hosts_file
    from hollow_chain.facts.codec import encode

    for number, day in enumerate(("tuesday", "wednesday")):
        folder = out / f"counters-{day}"
        folder.mkdir(exist_ok=True)
        found = counters(number)
        for host in found.hosts:
            common.write_out(folder / f"{host.name}.json", encode(replace(found, hosts=[host])), named=False)
        text = hosts_file(folder.name)
        common.write_out(out / f"counters-{day}.toml", text.encode(), named=False)


def _clear(out: Path) -> None:
    """Remove the stand-in host and the cases of an earlier demo in the same folder: the story begins anew."""
    import shutil

    from hollow_chain.lab.state import FILE

    if (out / "office" / FILE).is_file():
        shutil.rmtree(out / "office", ignore_errors=True)
    if (out / "counters-tuesday.toml").is_file():
        for name in ("readings", "counters-tuesday", "counters-wednesday"):
            shutil.rmtree(out / name, ignore_errors=True)
    try:
        for name in (
            "cases.db",
            "ticket.html",
            "links.png",
            "boot.png",
            "counters-tuesday.toml",
            "counters-wednesday.toml",
        ):
            (out / name).unlink(missing_ok=True)
    except OSError as error:  # a system that removes no file which somebody has open
        raise Trouble(
            f"cannot begin the demo anew: {error.filename}: {error.strerror}; close it, or name another folder", 1
        ) from None


def _after_the_mend(data: bytes) -> bytes:
    """The same host as it is read again once the timetable store is automatic and running."""
    from datetime import timedelta

    from hollow_chain.facts.codec import decode, encode
    from hollow_chain.facts.runs import LastRun

    snapshot = decode(data)
    for host in snapshot.hosts:
        later = host.read_at + timedelta(minutes=6) if host.read_at else None
        host.read_at = later
        for service in host.services:
            if service.name in ("TimetableStore", "TimetableWeb", "sailings-relay.service"):
                service.state, service.startup, service.detail = "running", "automatic", ""
                service.last = LastRun(result="success", started_at=later, up_at=later)
    return encode(snapshot)


def _verdict(facts: Path) -> bytes:
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.show.documents import to_json, verdict_document
    from hollow_chain.sources import files
    from hollow_chain.verdict import diagnose

    known = Facts(Graph(files.read(facts)))
    verdict = diagnose(known, known.graph.node("gate-03", "gate-kiosk.service"))
    return (to_json(verdict_document(verdict)) + "\n").encode()
