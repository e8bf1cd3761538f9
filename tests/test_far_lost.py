"""A host that is lost, or slow, in the middle of a mend over the network: asked again, said, and nothing is left open unsaid."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.cli.carrying_out import told_when_interrupted
from hollow_chain.facts.host import Host, Snapshot, UnreachedHost, Unread, snapshot
from hollow_chain.mend.far_hands import FarHands
from hollow_chain.mend.journal import FORMAT, VERSION, Record, begin
from hollow_chain.sources import many
from hollow_chain.sources.places import AS_IT_IS, Asking, _Source, _together
from hollow_chain.trouble import INTERRUPTED, Trouble, wrong_call

QUAY, OFFICE = Host(name="quay"), Host(name="office")
SLOW = UnreachedHost(name="quay", why="not read within 60 s")


def without_quay() -> Snapshot:
    found = snapshot([OFFICE])
    found.unreached = [SLOW]
    return found


def with_old_quay() -> Snapshot:
    old = Host(name="quay", unread=[Unread(what=AS_IT_IS, why="its snapshot was taken instead: no route")])
    return snapshot([old, OFFICE])


def nothing() -> Snapshot:
    raise Trouble("no host could be read:")


def refused() -> Snapshot:
    raise wrong_call("no such file")


def whole() -> Snapshot:
    return snapshot([QUAY, OFFICE])


def hands(*answers: Callable[[], Snapshot]) -> tuple[FarHands, list[str]]:
    """Hands for the host quay, whose readings give *answers*, one after the other; and the readings so far."""
    asked: list[str] = []

    def read(with_claims: bool, with_packages: bool, only: str) -> Snapshot:
        asked.append(only)
        return answers[len(asked) - 1]()

    ways: Any = {"quay": None, "office": None}
    kept: Any = None
    made = FarHands(ways, read, whole(), ("hosts.toml",), kept)
    made.host = "quay"
    return made, asked


@pytest.mark.parametrize("first", [without_quay, with_old_quay, nothing])
def test_a_host_that_is_slow_once_is_asked_again(first: Callable[[], Snapshot]) -> None:
    made, asked = hands(first, whole)
    assert [host.name for host in made.facts().hosts] == ["quay", "office"] and len(asked) == 2


@pytest.mark.parametrize(
    ("answer", "said"),
    [(without_quay, "cannot read quay: not read within 60 s"), (with_old_quay, "cannot read quay: its snapshot"), (nothing, "no host")],
)  # fmt: skip
def test_a_host_that_is_lost_is_said(answer: Callable[[], Snapshot], said: str) -> None:
    made, _ = hands(answer, answer)
    with pytest.raises(Trouble, match=said) as lost:
        made.facts()
    assert lost.value.status == 3


def test_a_host_that_no_step_is_for_may_be_lost() -> None:
    made, asked = hands(without_quay)
    made.host = "office"
    assert [host.name for host in made.facts().hosts] == ["office"] and len(asked) == 1


def test_a_wrong_call_is_not_tried_again() -> None:
    made, asked = hands(refused)
    with pytest.raises(Trouble, match="no such file"):
        made.facts()
    assert len(asked) == 1


def test_how_to_go_on_is_said_where_a_mend_is_left_in_the_middle(tmp_path: Path) -> None:
    made, _ = hands()
    made.place = tmp_path
    with pytest.raises(Trouble) as lost, told_when_interrupted(made):
        raise Trouble("cannot read quay: not read within 60 s")
    assert "in the middle" not in str(lost.value)  # nothing is open
    begun = Record(
        what="begun", at=datetime.now(UTC), format=FORMAT, version=VERSION, host="quay", target="kiosk.service"
    )
    journal = begin(tmp_path, begun)
    with pytest.raises(Trouble) as lost, told_when_interrupted(made):
        raise Trouble("cannot read quay: not read within 60 s")
    assert journal.id in str(lost.value) and "cannot read quay" in str(lost.value) and lost.value.status == 3
    assert "--resume --from hosts.toml" in lost.value.rows[-1] and "--undo" in lost.value.rows[-1]
    with pytest.raises(Trouble) as lost, told_when_interrupted(made):
        raise KeyboardInterrupt
    assert lost.value.status == INTERRUPTED and "--resume" in str(lost.value)


@pytest.mark.parametrize("in_part", [True, False])
def test_who_stops_a_mend_while_it_reads_stops_the_mend(monkeypatch: pytest.MonkeyPatch, in_part: bool) -> None:
    stopped = many.Interrupted("it was not waited for any longer")
    came = [many.Came(whole(), None, 1.0), many.Came(None, stopped, 1.0)]
    monkeypatch.setattr(many, "at_once", lambda *_: came)
    sources = [_Source(name, whole, True) for name in ("quay", "office")]
    if in_part:
        assert [one.name for one in _together(sources, Asking()).unreached] == ["office"]
    else:
        with pytest.raises(KeyboardInterrupt):
            _together(sources, Asking(in_part=False))
