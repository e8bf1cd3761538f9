"""Endpoints as programs of many kinds write them in their logs."""

from __future__ import annotations

import pytest

from hollow_chain.wording.things import endpoints_of


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("bind() to 0.0.0.0:80 failed", [("0.0.0.0", 80)]),
        ("bind [::]:443 failed", [("::", 443)]),
        ("cannot bind 0.0.0.0@53", [("0.0.0.0", 53)]),
        ("[('::', 143)] in use", [("::", 143)]),
        ("error on (::, 143)", [("::", 143)]),
        ('Cannot bind ("127.0.0.1", 8080)', [("127.0.0.1", 8080)]),
        ("while attempting to bind on address ('quay', 8000)", [("quay", 8000)]),
        ("couldn't open udp:10.1.1.1:161", [("10.1.1.1", 161)]),
        ("port 53/udp in use", [("", 53)]),
        ("nobody may have 8080/tcp", [("", 8080)]),
        ("listen on tcp/8080", [("", 8080)]),
        ("bash: line 1: /dev/tcp/127.0.0.1/6543: Connection refused", [("127.0.0.1", 6543)]),
        ("bash: /dev/udp/localhost/514: refused", [("localhost", 514)]),
        ("of tcp/127.0.0.1", []),
        ("10.0.0.5 port 514", [("10.0.0.5", 514)]),
        ("listen EADDRINUSE: address already in use :::3000", [("::", 3000)]),
        ("failed to listen on *:25", [("*", 25)]),
        ("f(3, 4) at 12:30:15", []),
        ("call (1, 2), version 1.2.3, mate@53", []),
        ("port 99999", []),
        ("('', 0)", []),
    ],
)
def test_what_a_line_names(text: str, wanted: list[tuple[str, int]]) -> None:
    assert endpoints_of(text) == wanted
