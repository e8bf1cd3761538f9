"""``hosts``: files of hosts, and whether the hosts in them answer."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from hollow_chain.cli import common


def register(app: typer.Typer) -> None:
    """Add the group of commands."""
    group = typer.Typer(
        help="Files of hosts: ask every host in one, and find needs that lead nowhere.", no_args_is_help=True
    )
    group.command("check")(check)
    app.add_typer(group, name="hosts")


def check(
    file: Annotated[Path, typer.Argument(help="File of hosts (TOML).", show_default=False)],
    at_once: common.AtOnce = common.AT_ONCE,
    seconds: common.Within = common.WITHIN,
    json: common.Json = False,
) -> int:
    """Ask every host of a file: whether it answers, with which rights, what could not be read, in how long.

    Also finds declared needs that lead nowhere. Exit status 1 where a host was not read, or a need leads nowhere.
    """
    from hollow_chain.sources import hosts_file
    from hollow_chain.sources.hosts_check import checked
    from hollow_chain.sources.places import Asking

    listed = hosts_file.read(file)
    with common.Awaiting() as told:
        asking = Asking(at_once, common.seconds_of(seconds, "--within"), told, ask=common.password)
        found = checked(listed, file, asking)
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.hosts import hosts_document

        common.put(to_json(hosts_document(found)))
    else:
        from hollow_chain.show.hosts import show_hosts
        from hollow_chain.show.page import Page

        show_hosts(Page(), found)
    return 0 if found.well else 1
