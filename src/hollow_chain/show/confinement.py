"""What a service may reach, in words (systemd.exec(5), "Sandboxing")."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.facts.service import Confinement, Service

_FEW = 6
"""Places or rights that are named in a sentence."""


def confinement_words(service: Service) -> list[str]:
    """What keeps *service* from what its account could do; empty where nothing is told of that."""
    held = service.confinement
    return list(_words(held)) if held is not None else []


def _words(held: Confinement) -> Iterator[str]:
    if held.read_only:
        yield f"may only read {_few(held.read_only)}"
    if held.writable:
        yield f"may write below {_few(held.writable)}"
    if held.hidden:
        yield f"does not see {_few(held.hidden)}"
    if held.not_run:
        but = f", but below {_few(held.run)}" if held.run else ""
        yield f"may run nothing below {_few(held.not_run)}{but}"
    if held.capabilities is not None:
        yield (
            f"has of root's rights at most {_few(held.capabilities)}"
            if held.capabilities
            else "has none of root's rights"
        )
    if held.granted:
        yield f"is given {_few(held.granted)}"
    if held.families is not None:
        refused = [one.removeprefix("-") for one in held.families if one.startswith("-")]
        yield (
            f"may not use sockets of {_few(refused)}"
            if refused
            else f"may use sockets of {_few(held.families) or 'no kind'} only"
        )
    if held.calls_by:
        end = "get an error" if held.calls_fail_with is not None else "end it"
        yield f"calls of the kernel are filtered ({held.calls_by}): refused ones {end}"
    if held.private_tmp:
        yield "has a /tmp of its own"
    if held.private_network:
        yield "has no network but its own loopback"


def _few(words: list[str]) -> str:
    return ", ".join(words[:_FEW]) + (f" and {len(words) - _FEW} more" if len(words) > _FEW else "")
