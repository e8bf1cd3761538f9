"""Who has which seat: grants, heartbeats, what is taken back. A table and rules; no clock and no socket of its own."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import date

from hollow_chain.license.compare import covers
from hollow_chain.license.file import TO_HOST, SignedEntitlement
from hollow_chain.license.wire import Want

NO_ENTITLEMENT, NO_VERSION, EXPIRED, NOT_YET, TAKEN, HOST_BOUND = (
    "no-entitlement", "no-version", "expired", "not-yet", "seats-taken", "host-bound",
)  # fmt: skip


@dataclass(frozen=True)
class Denial:
    """Why a want cannot be had now: a word for programs, and a sentence."""

    error: str
    says: str


@dataclass
class Seat:
    """Seats that one client has."""

    number: int
    pool: int
    count: int
    client: str
    heard_at: float


@dataclass
class Pool:
    """One entitlement with its seats."""

    entitlement: SignedEntitlement
    used: int = 0

    @property
    def free(self) -> int:
        """Seats that nobody has; below 0 never, also where a reload has taken some away."""
        return max(0, self.entitlement.seats - self.used)


def title(entitlement: SignedEntitlement) -> str:
    """An entitlement as it is spoken of."""
    return str(Want(entitlement.product, entitlement.feature, entitlement.version))


@dataclass
class SeatBook:
    """The seats of one publisher's entitlements."""

    heartbeat: float = 30.0
    """Seconds between two heartbeats of a client; after three that did not come its seats are taken back."""
    pools: list[Pool] = field(default_factory=list)
    seats: dict[int, Seat] = field(default_factory=dict)
    _numbers: Iterator[int] = field(default_factory=lambda: itertools.count(1))

    def load(self, entitlements: Iterable[SignedEntitlement]) -> None:
        """Take over entitlements in place: seats that clients have stay theirs where the same right is still there."""
        old = {_identity(pool.entitlement): (number, pool) for number, pool in enumerate(self.pools)}
        moved: dict[int, int] = {}
        fresh: list[Pool] = []
        for entitlement in entitlements:
            known = old.get(_identity(entitlement))
            if known is not None and known[0] not in moved:
                moved[known[0]] = len(fresh)
            fresh.append(
                Pool(entitlement, known[1].used if known is not None and moved.get(known[0]) == len(fresh) else 0)
            )
        for seat in list(self.seats.values()):
            if seat.pool in moved:
                seat.pool = moved[seat.pool]
            else:
                del self.seats[seat.number]
        self.pools = fresh

    def take(self, want: Want, client: str, local: bool, now: float, today: date) -> Seat | Denial:
        """Give *client* the seats that it wants, or say why not. *local*: it is on the server's own host."""
        found = self.find(want, local, today)
        if isinstance(found, Denial):
            return found
        pool = self.pools[found]
        pool.used += want.seats
        seat = Seat(next(self._numbers), found, want.seats, client, now)
        self.seats[seat.number] = seat
        return seat

    def find(self, want: Want, local: bool, today: date) -> int | Denial:
        """The first pool that can give what is wanted now, or why none can."""
        named = [
            (number, pool)
            for number, pool in enumerate(self.pools)
            if pool.entitlement.product == want.product and pool.entitlement.feature == want.feature
        ]
        if not named:
            return Denial(
                NO_ENTITLEMENT, f"no entitlement for {Want(want.product, want.feature)} is in the license file"
            )
        fitting = [(n, p) for n, p in named if covers(p.entitlement.version, want.version)]
        if not fitting:
            newest = named[0][1].entitlement.version
            return Denial(
                NO_VERSION, f"the entitlement for {want.product} goes up to version {newest}, not {want.version}"
            )
        reasons: list[Denial] = []
        for number, pool in fitting:
            reason = _against(pool, want, local, today)
            if reason is None:
                return number
            reasons.append(reason)
        return next((r for r in reasons if r.error == TAKEN), reasons[0])

    def keep(self, number: int, client: str, now: float) -> bool:
        """A heartbeat; False where the client has no such seat (any more)."""
        seat = self.seats.get(number)
        if seat is None or seat.client != client:
            return False
        seat.heard_at = now
        return True

    def give(self, number: int, client: str) -> Seat | None:
        """Seats given back; None where the client has no such seat."""
        seat = self.seats.get(number)
        if seat is None or seat.client != client:
            return None
        return self._free(seat)

    def reclaim(self, now: float) -> list[Seat]:
        """Seats whose clients have not been heard for three heartbeats, taken back."""
        late = [seat for seat in self.seats.values() if now - seat.heard_at > 3 * self.heartbeat]
        return [self._free(seat) for seat in late]

    def _free(self, seat: Seat) -> Seat:
        del self.seats[seat.number]
        self.pools[seat.pool].used -= seat.count
        return seat


def _identity(entitlement: SignedEntitlement) -> tuple[str, str, str, str]:
    return entitlement.product, entitlement.feature, entitlement.version, entitlement.bound


def _against(pool: Pool, want: Want, local: bool, today: date) -> Denial | None:
    """What speaks against giving a want from a pool now."""
    entitlement, what = pool.entitlement, title(pool.entitlement)
    if entitlement.ends is not None and entitlement.ends < today:
        return Denial(EXPIRED, f"{what} expired on {entitlement.ends}")
    if entitlement.starts is not None and entitlement.starts > today:
        return Denial(NOT_YET, f"{what} holds from {entitlement.starts} on")
    if entitlement.bound == TO_HOST and not local:
        return Denial(HOST_BOUND, f"{what} is bound to the server's own host")
    if pool.free < want.seats:
        return Denial(TAKEN, f"{want.seats} of {entitlement.seats} seats of {what} are wanted, {pool.free} are free")
    return None
