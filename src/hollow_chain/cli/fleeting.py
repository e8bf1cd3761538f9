"""What commands about many hosts share: who does the work, and how far it is."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common
from hollow_chain.wording.counts import counted

if TYPE_CHECKING:
    from hollow_chain.fleet.work import Spreader

On = Annotated[
    str,
    typer.Option(
        "--on",
        help="Who diagnoses: the scheduler of a Dask cluster, tcp://host:8786. Default: the cores of this machine.",
        show_default=False,
    ),
]


def spread(on: str, what: str) -> Spreader:
    """Who does the work. Raises :class:`~hollow_chain.trouble.Trouble` (2) where what it needs is not installed."""
    from hollow_chain.lacking import needs

    with needs("fleet", what):
        import pyarrow  # noqa: F401
    from hollow_chain.fleet.spread import check, spreader

    check(on)
    return spreader(on)


class Working(common.ProgressLine):
    """Says how much is diagnosed."""

    def __call__(self, done: int, of: int) -> None:
        """So many pieces of so many are done."""
        if of > 1:
            self._say(f"{done:,} of {counted(of, 'piece')} diagnosed", f"{done:,} of {counted(of, 'piece')} diagnosed")
