"""Some of the runs of a simulation, event by event, all at once; how they are followed is told in :mod:`hollow_chain.boot.engine`."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from hollow_chain.boot import draws
from hollow_chain.boot.compiled import CLOCK, CPU, DISK, MOST_TRIES, Compiled, Fan, some
from hollow_chain.boot.outcome import FIRST_HELD, NEED, OWN, TIMEOUT, Outcome, State
from hollow_chain.boot.queues import Floats, Index, Queues

# The states as the arrays hold them: to look up a member of an enumeration, and to compare with it, costs more than the comparison.
_NOT_STARTED, _WAITING, _STARTING, _UP, _FAILED, _PASSED_OVER, _RETRY = (np.int8(state) for state in State)


def _soonest(ahead: Floats) -> tuple[Floats, Index]:
    """The least of the stations for each run, and which one: three rows by hand, where a general search takes twice as long."""
    shared = np.minimum(ahead[DISK], ahead[CPU])
    wait = np.minimum(shared, ahead[CLOCK])
    station = (ahead[CPU] < ahead[DISK]).astype(np.int64)
    station[ahead[CLOCK] < shared] = CLOCK
    return wait, station


def _parted(which: NDArray[np.bool_]) -> tuple[Index, Index]:
    """The places that are true, and those that are not: to pick by place is quicker than by mask, the more so several times."""
    return np.flatnonzero(which), np.flatnonzero(~which)


class Portion:
    """Some of the runs, simulated together. Arrays over (run, unit) are flat: place = run * units + unit."""

    def __init__(self, compiled: Compiled, first: int, runs: int, horizon: float) -> None:
        self.c, self.runs, self.many, self.horizon = compiled, runs, compiled.many, horizon
        self.number = np.arange(first, first + runs)
        size = runs * self.many
        first_durations = compiled.first_durations(self.number)
        self.most_wait = compiled.most_wait(first_durations)
        variants = list(compiled.begins())
        of_run = compiled.variant_of(self.number)
        starts = np.stack([one for one, _ in variants])[of_run]
        self.state = np.where(starts, _WAITING, _NOT_STARTED).astype(np.int8).ravel()
        self.pending = np.stack([many for _, many in variants])[of_run].ravel()
        self.up_at, self.begun_at, self.settled_at = (np.full(size, np.nan, np.float32) for _ in range(3))
        self.tries = np.zeros(size, np.int8)
        self.in_window = np.zeros(size, np.int8)
        self.why = np.full(size, -1, np.int16)
        self.blame, self.gate = (np.full(size, -1, np.int32) for _ in range(2))
        self.opened = np.full(size if compiled.retry_most.any() else 0, -np.inf)
        """When the window opened in which tries are counted against the bar."""
        self.deadline = np.full(size, np.inf)
        self.work = first_durations.ravel()
        self.faulty = compiled.faulty(self.number).ravel()
        self.station = np.full(size, 3, np.int8)
        self.left = np.tile(np.array([h.amount for h in compiled.plan.held], np.int32), (runs, 1))
        self.holder = np.full((runs, len(compiled.plan.held)), -1, np.int32)
        self.todo: list[tuple[Callable[[Index, Index], None], Index, Index]] = []
        self.queues = Queues(3 * runs, self.many)
        self.virtual = np.zeros((3, runs))
        self.busy = np.zeros((3, runs), np.int64)
        self.room = np.array([[compiled.plan.disks], [compiled.plan.cores], [np.inf]])

    @property
    def clock(self) -> Floats:
        """The moment of each run: virtual time of the station that has room for all."""
        return np.asarray(self.virtual[CLOCK])

    def run(self) -> Outcome:
        """Simulate to the end."""
        self._open()
        while self._step():
            pass
        shape = self.runs, self.many
        arrays: list[Any] = [
            self.state, self.up_at, self.begun_at, self.settled_at, self.tries, self.why, self.blame, self.gate
        ]  # fmt: skip
        return Outcome(self.c.plan, *(array.reshape(shape) for array in arrays))

    def _open(self) -> None:
        """What happens at the first moment: timed starts are noted, and all that waits for nothing begins."""
        runs, units = np.nonzero(self.state.reshape(self.runs, self.many) == _WAITING)
        timed = (self.c.at[units] > 0) | (self.c.at_spread[units] > 0)
        late, who = runs[timed], units[timed]
        chance = draws.uniform(self.c.streams[who], self.number[late], draws.EVENT)
        self._at_moment(late, who, self.c.at[who] + self.c.at_spread[who] * chance)
        free = self.pending[runs * self.many + units] == 0
        self._begin(runs[free], units[free])
        self._all_at_once()

    # One step: the next event of every run.

    def _step(self) -> bool:
        first = self.queues.first.reshape(3, self.runs)
        pace = np.minimum(1.0, self.room / np.maximum(self.busy, 1))
        ahead = np.maximum(first - self.virtual, 0.0) / pace
        wait, station = _soonest(ahead)
        live = np.flatnonzero(self.clock + wait <= self.horizon)
        if not live.size:
            return False
        if live.size < self.runs:
            station = station[live]
            self.virtual[:, live] += pace[:, live] * wait[live]
        else:
            self.virtual += pace * wait
        rows = station * self.runs + live
        self._happens(live, self.queues.pop(rows), station, rows)
        self._all_at_once()
        return True

    def _happens(self, runs: Index, units: Index, station: Index, rows: Index) -> None:
        shared, timed = _parted(station != CLOCK)
        if shared.size:
            self.busy.ravel()[rows[shared]] -= 1
            self._enter(runs[shared], units[shared], station[shared] + 1)
        if timed.size:
            r, s = runs[timed], units[timed]
            self._by_the_clock(r, s, r * self.many + s)

    def _by_the_clock(self, runs: Index, units: Index, at: Index) -> None:
        state = self.state[at]
        starting = state == _STARTING
        if some(starting):
            r, s, a = runs[starting], units[starting], at[starting]
            # While it still reads or computes, only its limit can have brought it here.
            late = (self.station[a] != CLOCK) | (self.deadline[a] < self.work[a])
            if some(late):
                self._leave_station(r[late], s[late], a[late])
                self._fail(r[late], s[late], TIMEOUT)
                r, s = r[~late], s[~late]
            self._finish(r, s)
        rest = ~starting
        if some(rest):
            self._begins_or_ends(runs[rest], units[rest], at[rest], state[rest])

    def _begins_or_ends(self, runs: Index, units: Index, at: Index, state: NDArray[np.int8]) -> None:
        waiting = state == _WAITING
        if some(waiting):
            self.pending[at[waiting]] -= 1
            ready = waiting & (self.pending[at] == 0)
            self._begin(runs[ready], units[ready])
        again = state == _RETRY
        if some(again):
            self._begin(runs[again], units[again])
        up = state == _UP
        if some(up):
            self._fail(runs[up], units[up], OWN)

    def _leave_station(self, runs: Index, units: Index, at: Index) -> None:
        station = self.station[at].astype(np.int64)
        inside = station < CLOCK
        if some(inside):
            self.queues.drop(station[inside] * self.runs + runs[inside], units[inside])
            np.subtract.at(self.busy, (station[inside], runs[inside]), 1)
        self.station[at] = 3

    # What can happen to pairs of a run and a unit.

    def _begin(self, runs: Index, units: Index) -> None:
        """Begin starts; what is over at once (targets) sets off others in the same moment, round by round."""
        if not runs.size:
            return
        passed = self.c.passed[units]
        if some(passed):
            self._pass_over(runs[passed], units[passed])
            runs, units = runs[~passed], units[~passed]
        runs, units = self._refused(runs, units, self.c.up_first, NEED)
        if not runs.size:
            return
        at = runs * self.many + units
        now = self.clock[runs]
        tries = self.tries[at]
        self.state[at] = _STARTING
        self.begun_at[at] = np.where(tries == 0, now, self.begun_at[at])
        self.tries[at] = tries + 1
        self._count_in_window(units, at, now)
        total = self.work[at]
        again = tries > 0
        if some(again):
            total[again] = self.c.durations(units[again], self.number[runs[again]], tries[again])
        self.work[at] = total
        limit = now + self.c.limit[units]
        self.deadline[at] = np.inf
        bounded = self.c.limit[units] < self.c.far * (total + self.most_wait[runs])
        if some(bounded):
            self.deadline[at[bounded]] = limit[bounded]
            self.queues.put(CLOCK * self.runs + runs[bounded], units[bounded], limit[bounded])
        self._enter(runs, units, np.zeros(runs.size, np.int64))

    def _enter(self, runs: Index, units: Index, station: Index) -> None:
        """Go to the first station from *station* on that has work; where there is none, the start is done."""
        going = self.c.next[units, station]
        moving, done = _parted(going != 3)
        if moving.size == runs.size:
            self._work_at(runs, units, going)
        elif moving.size:
            self._work_at(runs[moving], units[moving], going[moving])
        if done.size:
            r, s = runs[done], units[done]
            at = r * self.many + s
            bounded = np.isfinite(self.deadline[at])
            if some(bounded):
                self.queues.drop(CLOCK * self.runs + r[bounded], s[bounded])
            self._finish(r, s)

    def _work_at(self, runs: Index, units: Index, station: Index) -> None:
        at, rows = runs * self.many + units, station * self.runs + runs
        self.station[at] = station
        until = self.virtual.ravel()[rows] + self.work[at] * self.c.shares[units, station]
        shared, waits = _parted(station != CLOCK)
        if shared.size:
            self.busy += np.bincount(rows[shared], minlength=self.busy.size).reshape(self.busy.shape)
        if waits.size:
            # Its limit stands in the same slot: the sooner of the two counts.
            of, done = at[waits], until[waits]
            self.work[of] = done
            limit = self.deadline[of]
            bounded = np.isfinite(limit)
            if some(bounded):
                self.queues.drop(rows[waits][bounded], units[waits][bounded])
                until[waits] = np.minimum(done, limit)
        self.queues.put(rows, units, until)

    def _finish(self, runs: Index, units: Index) -> None:
        """The work of a start is done: it is up, unless something it wants is not to be had."""
        if not runs.size:
            return
        at = runs * self.many + units
        self.station[at] = 3
        faulty = self.faulty[at]
        if some(faulty):
            dies = faulty & (self.c.fault_after[units] < 0)
            if some(dies):
                self._fail(runs[dies], units[dies], OWN)
                runs, units, at, faulty = runs[~dies], units[~dies], at[~dies], faulty[~dies]
        if not self.c.uses.empty or not self.c.takes.empty:
            before = runs * self.many + units
            runs, units = self._refused(runs, units, self.c.uses, NEED)
            runs, units = self._take(runs, units)
            at = runs * self.many + units
            faulty = faulty[np.isin(before, at)]
        if not runs.size:
            return
        self.state[at] = _UP
        now = self.clock[runs]
        self.up_at[at] = now
        if some(faulty):
            self._at_moment(runs[faulty], units[faulty], now[faulty] + self.c.fault_after[units[faulty]])
        self._settle(runs, units, np.ones(runs.size, bool))

    def _refused(self, runs: Index, units: Index, fan: Fan, code: int) -> tuple[Index, Index]:
        """Fail those that want another to be up that is not; the rest is returned."""
        if fan.empty or not fan.count[units].any():
            return runs, units
        r, wanted, s = fan.out(runs, units)
        missing = self.state[r * self.many + wanted] != _UP
        if not some(missing):
            return runs, units
        r, s, wanted = r[missing], s[missing], wanted[missing]
        lost, once = np.unique(r * self.many + s, return_index=True)
        self._fail(r[once], s[once], code, wanted[once])
        kept = ~np.isin(runs * self.many + units, lost)
        return runs[kept], units[kept]

    def _take(self, runs: Index, units: Index) -> tuple[Index, Index]:
        """Take what each wants to hold, first come first served; those that find it gone fail, the rest is returned."""
        takers = self.c.takes.count[units] > 0
        if self.c.takes.empty or not takers.any():
            return runs, units
        got = ~takers
        for one in np.flatnonzero(takers):  # one at a time: two of one run may want the same thing in one moment
            got[one] = self._takes_all(int(runs[one]), int(units[one]))
        return runs[got], units[got]

    def _takes_all(self, run: int, unit: int) -> bool:
        start = self.c.takes.start[unit]
        wanted = self.c.takes.flat[start : start + self.c.takes.count[unit]]
        things, pieces = np.unique(wanted, return_counts=True)
        lacking = np.flatnonzero(self.left[run, things] < pieces)
        if lacking.size:
            thing = int(things[lacking[0]])
            self._fail(np.array([run]), np.array([unit]), FIRST_HELD + thing, self.holder[run, [thing]])
            return False
        self.left[run, things] -= pieces
        self.holder[run, things] = unit
        return True

    def _give_back(self, runs: Index, units: Index) -> None:
        if self.c.takes.empty or not self.c.takes.count[units].any():
            return
        r, thing, _ = self.c.takes.out(runs, units)
        np.add.at(self.left, (r, thing), 1)

    def _pass_over(self, runs: Index, units: Index) -> None:
        at = runs * self.many + units
        self.state[at] = _PASSED_OVER
        self._settle(runs, units, np.ones(runs.size, bool))
        self.todo.append((self._bring_down, runs, units))

    def _fail(self, runs: Index, units: Index, code: int, blame: Any = None) -> None:
        """A start failed, or what was up has ended. Pairs are told apart; each may fail several times in its life."""
        if not runs.size:
            return
        at = runs * self.many + units
        was_up = self.state[at] == _UP
        self.why[at] = code
        self.blame[at] = -1 if blame is None else blame
        self._give_back(runs[was_up], units[was_up])
        again = self._may_retry(runs, units, at, code)
        self.state[at] = np.where(again, _RETRY, _FAILED)
        if some(again):
            later = self.clock[runs[again]] + self.c.retry_after[units[again]]
            self._at_moment(runs[again], units[again], later)
        self._settle(runs, units, np.zeros(runs.size, bool))
        if some(was_up):
            self.up_at[at[was_up]] = np.nan
            self.todo.append((self._bring_down, runs[was_up], units[was_up]))

    def _may_retry(self, runs: Index, units: Index, at: Index, code: int) -> NDArray[np.bool_]:
        if code == NEED:
            return np.zeros(runs.size, bool)
        allowed = self.c.retry_timeout if code == TIMEOUT else self.c.retry_failure
        followed = self.tries[at] < MOST_TRIES
        most = self.c.retry_most[units]
        return np.asarray(allowed[units] & followed & (most > 0) & (self.in_window[at] <= most))

    def _count_in_window(self, units: Index, at: Index, now: Floats) -> None:
        """Count a try against the bar: a window opens with the first try and counts those within it (``ratelimit.c`` of
        systemd)."""
        counted = self.c.retry_most[units] > 0
        if not some(counted):
            return
        at, now = at[counted], now[counted]
        opened = self.opened[at]
        over = now - opened >= self.c.retry_within[units[counted]]
        self.opened[at] = np.where(over, now, opened)
        self.in_window[at] = np.where(over, 1, self.in_window[at] + 1)

    def _bring_down(self, runs: Index, units: Index) -> None:
        """Take down what is bound to units that ended or were passed over."""
        if self.c.bound.empty:
            return
        r, s, by = self.c.bound.out(runs, units)
        at = r * self.many + s
        touched = np.isin(self.state[at], (_UP, _STARTING, _WAITING))
        at, once = np.unique(at[touched], return_index=True)
        r, s, by = r[touched][once], s[touched][once], by[touched][once]
        starting = self.state[at] == _STARTING
        if some(starting):
            self._leave_station(r[starting], s[starting], at[starting])
            self.queues.drop(CLOCK * self.runs + r[starting], s[starting])
        self._fail(r, s, NEED, by)

    def _at_moment(self, runs: Index, units: Index, moments: Floats) -> None:
        if runs.size:
            self.queues.put(CLOCK * self.runs + runs, units, moments)

    def _settle(self, runs: Index, units: Index, well: NDArray[np.bool_]) -> None:
        """First tries are over: who needs a failed one fails, then who waits for it comes nearer."""
        at = runs * self.many + units
        new = np.isnan(self.settled_at[at])
        runs, units, well, at = runs[new], units[new], well[new], at[new]
        if not runs.size:
            return
        self.settled_at[at] = self.clock[runs]
        self.todo.append((self._release, runs, units))
        if not well.all():
            self.todo.append((self._fail_needers, runs[~well], units[~well]))

    def _all_at_once(self) -> None:
        """Do all that follows in the same moment, the latest consequence first: chains are as long as plans make them, so
        they are worked off a list and not by calls within calls."""
        while self.todo:
            act, runs, units = self.todo.pop()
            act(runs, units)

    def _release(self, runs: Index, units: Index) -> None:
        """Those that wait for *units* come nearer; those that wait for nothing more begin."""
        r, s, by = self.c.waiters.out(runs, units)
        if not r.size:
            return
        place = r * self.many + s
        single = bool((runs[1:] > runs[:-1]).all())  # one in each run: then no pair comes twice
        if single:
            self.pending[place] -= 1
        else:
            np.subtract.at(self.pending, place, 1)
        ready = np.flatnonzero((self.pending[place] == 0) & (self.state[place] == _WAITING))
        if not single:
            ready = ready[np.unique(place[ready], return_index=True)[1]]
        self.gate[place[ready]] = by[ready]
        self._begin(r[ready], s[ready])

    def _fail_needers(self, runs: Index, units: Index) -> None:
        r, s, by = self.c.needers.out(runs, units)
        if not r.size:
            return
        at = r * self.many + s
        waiting = self.state[at] == _WAITING
        at, once = np.unique(at[waiting], return_index=True)
        self._fail(r[waiting][once], s[waiting][once], NEED, by[waiting][once])
