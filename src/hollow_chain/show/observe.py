"""A start while it is watched, and what it came to."""

from __future__ import annotations

import sys
import time
from datetime import datetime
from typing import TYPE_CHECKING

import msgspec

from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, verdict_document, when
from hollow_chain.show.signs import ASIDE, CAUTION

if TYPE_CHECKING:
    from rich.live import Live
    from rich.text import Text

    from hollow_chain.facts.observed import Observation, ObservedCall
    from hollow_chain.observing.course import Seen
    from hollow_chain.show.page import Page
    from hollow_chain.verdict import Verdict

_STYLES = {"state": "bold", "log": "", "socket": ASIDE, "waits": CAUTION, "process": "dim"}
_WORDS = {"state": "state", "log": "says", "socket": "listens", "waits": "waits", "process": "runs"}
_OUTCOMES = {
    "up": "it starts",
    "failed": "it did not start",
    "ended": "it ended by itself, without an error, and nothing is left running",
    "not-up": "it is not up, and its start is still under way",
    "no-try": "no try of it came in that time",
}


class Watching:
    """The view on standard error: live on a terminal, else a line for each thing as it comes."""

    def __init__(self, title: str) -> None:
        self._title = clean(title, 200)
        self._live: Live | None = None
        self._since = time.monotonic()
        self._last: dict[str, str] = {}
        self._waits = ""

    def __enter__(self) -> Watching:
        if sys.stderr.isatty():
            from rich.console import Console
            from rich.live import Live

            console = Console(stderr=True, highlight=False, markup=False, emoji=False)
            self._live = Live(
                self._head(), console=console, refresh_per_second=8, transient=True, get_renderable=self._head
            )
            self._live.start()
        return self

    def __exit__(self, *_: object) -> None:
        if self._live is not None:
            self._live.stop()

    def __call__(self, seen: Seen) -> None:
        """One more thing was seen."""
        text = clean(seen.text, 300)
        self._last[seen.kind] = text
        self._waits = text if seen.kind == "waits" else "" if seen.kind == "state" else self._waits
        if self._live is None:
            print(f"{seen.seconds:8.2f} s  {_WORDS[seen.kind]:8}{text}", file=sys.stderr, flush=True)  # noqa: T201
            return
        from rich.text import Text

        line = Text()
        line.append(f"{seen.seconds:8.2f} s  ", "dim")
        line.append(f"{_WORDS[seen.kind]:8}", "dim")
        line.append(text, _STYLES[seen.kind])
        self._live.console.print(line, soft_wrap=False, overflow="fold")

    def _head(self) -> Text:
        """The foot of the view: what it is at now."""
        from rich.text import Text

        text = Text()
        text.append(f"  {self._title}", "bold")
        text.append(f"  {time.monotonic() - self._since:.1f} s", ASIDE)
        text.append(f"  {self._last.get('state', 'not asked for yet')}")
        if self._waits:
            text.append(f"\n  {self._waits}", CAUTION)
        text.append("\n  Ctrl-C lets go of it; the start goes on", "dim")
        return text


def show_observation(page: Page, seen: Observation, service: str) -> None:
    """What a start came to, and how long each part of it took."""
    style = "bold green" if seen.outcome == "up" else "bold red"
    page.line((f"{clean(service, 120)}: {_OUTCOMES[seen.outcome]}", style), f"  (observed for {seen.seconds:.1f} s)")
    for part in seen.parts:
        page.line(f"{part.seconds:8.2f} s  {clean(part.what, 200)}", indent=2)
    if seen.why_not_traced:
        page.line(
            (f"The calls of its processes were not seen: {clean(seen.why_not_traced, 300)}.", CAUTION),
            indent=2,
            hang=2,
        )


def show_calls(page: Page, seen: Observation) -> None:
    """The calls that failed and may matter, and what it waits in."""
    from hollow_chain.wording.observed import on

    for wait in seen.waits[:4]:
        of = f" {clean(on(wait), 200)}" if wait.thing else ""
        holder = f", which process {wait.holder} has" if wait.holder else ""
        page.line(
            (f"process {wait.process} ({clean(wait.program, 100)}) waits in {wait.name}{of}{holder}", CAUTION),
            indent=2,
            hang=2,
        )
    told = [one for one in seen.calls if one.weight >= _WORTH_TELLING or seen.outcome == "up"][:5]
    if seen.outcome == "up":
        _show_list(
            page,
            ("It is up, and could not listen everywhere", CAUTION),
            [one for one in told if one.kind == "bind"],
            False,
        )
        _show_list(
            page,
            ("It is up, and calls again and again in vain", CAUTION),
            [one for one in told if one.kind != "bind"],
            False,
        )
    else:
        _show_list(page, ("Calls that failed, the one that matters most first", "underline"), told, True)


def _show_list(page: Page, title: tuple[str, str], calls: list[ObservedCall], with_shares: bool) -> None:
    from hollow_chain.wording.observed import said

    if calls:
        page.line(title, indent=2)
    for one in calls:
        program = clean(one.program.rpartition("/")[2], 60)
        share = f"; {one.weight:.0%} of what failed" if with_shares else ""
        page.line(
            f"- {clean(said(one), 300)}", (f"  [{program}, process {one.process}{share}]", "dim"), indent=2, hang=2
        )


_WORTH_TELLING = 0.05
"""The least share of a call that is told: below it stand searches."""


def observation_document(seen: Observation) -> Document:
    """One start that was watched."""
    found: Document = {name: _plain(getattr(seen, name)) for name in seen.__struct_fields__ if name != "service"}
    found["at"] = when(seen.at)
    return found


def _plain(value: object) -> object:
    """A value with all of its fields, whether they are as usual or not."""
    if isinstance(value, list):
        return [_plain(one) for one in value]
    if isinstance(value, msgspec.Struct):
        return {name: _plain(getattr(value, name)) for name in value.__struct_fields__}
    return when(value) if isinstance(value, datetime) else value


def observed_document(verdict: Verdict, observed: tuple[Observation, ...]) -> Document:
    """``hollow-chain/verdict`` with what was observed: of the service, and of those that came along and to nothing."""
    seen, *others = observed
    along = [{"service": one.service, **observation_document(one)} for one in others]
    return {**verdict_document(verdict), "observed": {**observation_document(seen), "along": along}}
