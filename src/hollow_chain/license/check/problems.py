"""What a look through a license file notes: problems with their places and who can mend them."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from hollow_chain.facts.host import Host
from hollow_chain.license.places import Place, Way, place_of, places

EDIT = "edit the file"
NEW_FILE = "needs a new file from the publisher"
MACHINE = "change the machine"
NOTHING = "nothing to do"
SOON_DAYS = 30
MOST_SEATS = 1_000_000
MOST_TABLES = 10_000
"""Days before its end from which on an entitlement is warned of: a new file takes a publisher up to some weeks. Beyond that many
seats or tables a file is a slip or a trap, and is not gone through."""
Table = dict[str, Any]
NOWHERE = Place()


@dataclass(frozen=True)
class Problem:
    """One thing that is wrong, or worth knowing (``warning``)."""

    name: str
    says: str
    mend: str
    """Who can mend it: by editing, only by a new file, or on the machine."""
    place: Place = NOWHERE
    warning: bool = False
    cause: str = ""
    """The cause of the catalogue that it would be."""


@dataclass
class Checked:
    """A file with all that was found."""

    path: str
    digest: str
    problems: list[Problem] = field(default_factory=list)
    entitlements: list[Table] = field(default_factory=list)
    """Those that are signed rightly and hold today."""

    @property
    def right(self) -> bool:
        """Whether nothing but warnings was found."""
        return all(problem.warning for problem in self.problems)


class FileLook:
    """One look through a file: the text with its places, the machine, and what was found so far."""

    def __init__(self, path: str, text: str, host: Host | None, now: datetime, others: dict[str, str]) -> None:
        self.path, self.host, self.now, self.others = path, host, now, others
        self.places = places(text)
        self.problems: list[Problem] = []
        self.valid: list[Table] = []

    def told(self, name: str, says: str, mend: str, way: Way = (), warning: bool = False, cause: str = "") -> None:
        """Note a problem at the place of *way*."""
        self.problems.append(Problem(name, says, mend, place_of(self.places, way), warning, cause))


ALTERED = "license-altered"
