"""What a shell offers while a call is being typed. Nothing here takes long, says anything, or fails aloud."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

if TYPE_CHECKING:
    from hollow_chain.facts import Snapshot

_MOST = 200
"""Names that are offered: a shell asks before it lists more."""
_CALL = "_HOLLOW_CHAIN_COMPLETE"


def typed_words() -> list[str]:
    """The call that is being typed, where a shell asks; empty otherwise."""
    if _CALL not in os.environ:
        return []
    return (os.environ.get("_TYPER_COMPLETE_ARGS") or os.environ.get("COMP_WORDS") or "").split()[1:]


def targets(ctx: typer.Context, incomplete: str) -> list[str]:
    """Services of the facts that the call names, or of this machine."""
    return _quietly(lambda: _fitting(_services(ctx), incomplete))


def hosts(ctx: typer.Context, incomplete: str) -> list[str]:
    """Hosts of the facts that the call names."""
    return _quietly(lambda: _fitting([host.name for host in _facts(ctx).hosts], incomplete))


def causes(ctx: typer.Context, incomplete: str) -> list[str]:
    """Causes of the catalogue."""

    def found() -> list[str]:
        from hollow_chain.verdict.weigh import weights

        return _fitting(sorted(weights().priors), incomplete)

    return _quietly(found)


def faults(ctx: typer.Context, incomplete: str) -> list[str]:
    """Kinds of faults of stand-in hosts."""

    def found() -> list[str]:
        from hollow_chain.lab.faults import KINDS

        return _fitting(sorted(KINDS), incomplete)

    return _quietly(found)


def _quietly(found: Callable[[], list[str]]) -> list[str]:
    try:
        return found()
    except Exception:  # a shell that is completing shows nobody what went wrong
        return []


def _services(ctx: typer.Context) -> list[str]:
    params: dict[str, Any] = ctx.params
    if params.get("source") or params.get("folder"):
        return [s.name for host in _facts(ctx).hosts for s in host.services if s.kind == "service" and not s.template]
    from hollow_chain.sources.quick_names import names_here

    return names_here()


def _facts(ctx: typer.Context) -> Snapshot:
    from hollow_chain.sources.files import merged, read

    given = ctx.params.get("source") or ctx.params.get("folder")
    places = given if isinstance(given, list | tuple) else [given]
    # A host over the network is not asked while somebody is typing.
    return merged(
        [read(Path(str(place)).expanduser()) for place in places if "://" not in str(place) and str(place) != "-"]
    )


def _fitting(names: Sequence[str], typed: str) -> list[str]:
    """Those that begin with what is typed: a shell shows no others."""
    plain = [name for name in dict.fromkeys(names) if name.isprintable() and not any(sign.isspace() for sign in name)]
    wanted = typed.casefold()
    return [name for name in plain if name.casefold().startswith(wanted)][:_MOST]
