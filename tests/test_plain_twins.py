"""What was made quick, against the plain form of the same: the standard library, a loop, a pattern for each name."""

from __future__ import annotations

import errno
import math
import os
import re
import signal
import sys
from statistics import NormalDist

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.boot.normal import inverse, log_chance
from hollow_chain.causes.sockets import Sockets, claims_tcp
from hollow_chain.facts import Host, Service
from hollow_chain.facts.endpoints import of_claim, of_listener, overlap
from hollow_chain.facts.host import OF_SOCKETS, Listener, Unread
from hollow_chain.facts.service import Claim, Trigger
from hollow_chain.sources.log_files import SpokenNames
from hollow_chain.wording.system_errors import errors, signal_named, signals

chances = st.floats(1e-15, 1 - 1e-15, exclude_min=True, exclude_max=True)


@given(st.lists(chances, min_size=1, max_size=20))
def test_the_inverse_of_the_normal_distribution_is_that_of_the_standard_library(many: list[float]) -> None:
    for mine, its in zip(inverse(np.array(many)), map(NormalDist().inv_cdf, many), strict=True):
        assert math.isclose(mine, its, rel_tol=1e-12, abs_tol=1e-12)


@given(st.floats(-37, 8))
def test_the_logarithm_of_a_chance_is_that_of_the_standard_library(value: float) -> None:
    its = 0.5 * math.erfc(-value / math.sqrt(2))
    assert math.isclose(float(log_chance(value)), math.log(its), rel_tol=1e-9, abs_tol=1e-12)


def test_a_chance_too_small_for_a_number_has_a_logarithm_all_the_same() -> None:
    far = [float(log_chance(-size)) for size in (29.9, 30.1, 40.0, 100.0, 1e4)]
    assert far == sorted(far, reverse=True) and all(map(math.isfinite, far))
    assert math.isclose(far[1] - far[0], -(30.1**2 - 29.9**2) / 2 - math.log(30.1 / 29.9), rel_tol=1e-3)


letters = st.sampled_from("aB-_ .(é0")
spoken = st.text(letters, min_size=1, max_size=8)


def by_pattern(host: Host, text: str) -> str:
    """The plain form: a pattern for each name, the longest first."""
    pairs = {(name, s.name) for s in host.services for name in (s.display_name, s.name) if len(name) >= 4}
    for name, service in sorted(pairs, key=lambda pair: (-len(pair[0]), pair)):
        if re.search(rf"(?i)(?<![\w\-]){re.escape(name)}(?![\w\-])", text):
            return service
    return ""


@settings(max_examples=400)
@given(
    st.lists(st.tuples(spoken, spoken), max_size=5, unique_by=lambda pair: pair[0]),
    st.lists(spoken, max_size=6),
    st.data(),
)
def test_a_name_is_found_in_a_text_as_by_a_pattern_for_each(
    names: list[tuple[str, str]], words: list[str], data: st.DataObject
) -> None:
    host = Host(name="h", services=[Service(name=name, display_name=shown) for name, shown in names])
    known = [one for pair in names for one in pair]
    chosen = data.draw(st.lists(st.sampled_from(known + words or [""]), max_size=5))
    text = "".join(data.draw(st.sampled_from(["", " ", "-", ": "])) + word for word in chosen)
    assert SpokenNames(host).named_in(text) == by_pattern(host, text)


ports = st.integers(0, 4)
sockets = st.builds(
    Listener, port=ports, protocol=st.sampled_from(["tcp", "tcp6", "udp"]), address=st.sampled_from(["", "::", "127.0.0.1", "10.0.0.1"]),
    service=st.sampled_from(["", "a", "b", "s.socket"]), shared_with=st.lists(st.sampled_from(["a", "b"]), max_size=1),
)  # fmt: skip
claims = st.builds(
    Claim, port=ports, protocol=st.sampled_from(["tcp", "udp"]), address=st.sampled_from(["", "127.0.0.1", "10.0.0.1"]), free_choice=st.booleans()
)  # fmt: skip
services = st.builds(
    Service, name=st.sampled_from(["a", "b", "c"]), claims=st.lists(claims, max_size=3),
    triggers=st.lists(st.builds(Trigger, kind=st.sampled_from(["socket", "timer"]), name=st.just("s.socket")), max_size=1),
)  # fmt: skip
hosts = st.builds(
    Host, name=st.just("h"), listeners=st.lists(sockets, max_size=6), services=st.lists(services, max_size=3, unique_by=lambda s: s.name),
    sockets_read=st.booleans(), unread=st.lists(st.just(Unread(what="sockets", part=OF_SOCKETS)), max_size=1),
)  # fmt: skip


@settings(max_examples=300)
@given(hosts)
def test_look_ups_of_sockets_are_what_a_look_at_each_would_find(host: Host) -> None:
    index = Sockets(host)
    for service in host.services:
        names = {service.name, *(t.name for t in service.triggers if t.kind == "socket")}
        own = [s for s in host.listeners if s.service in names or service.name in s.shared_with]
        assert index.of(service) == own
        free = [c for c in claims_tcp(service) if not any(overlap(of_claim(c), of_listener(s)) for s in host.listeners)]
        assert index.unheld_claims(service) == (free if index.known else [])
        for port in range(5):
            assert (service in index.claimants(port)) == any(c.port == port for c in claims_tcp(service))
            assert (service in index.holders(port)) == any(s.port == port and s.protocol[:3] == "tcp" for s in own)
    for port in range(5):
        assert index.at(port) == [s for s in host.listeners if s.port == port]


def test_the_table_of_errors_and_signals_is_that_of_a_linux_machine() -> None:
    if sys.platform != "linux":
        return
    for number, known in errors().items():
        assert errno.errorcode.get(number, known.name) == known.name and os.strerror(number) == known.text
    for number, known in signals().items():
        assert signal.Signals(number).name == known.name
    assert (
        signal_named("KILL") == signals()[9] and signal_named("SIGIOT") == signals()[6] and signal_named("NONE") is None
    )
    assert len(errors()) > 120 and len(signals()) > 30
