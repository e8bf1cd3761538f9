"""``python -m bench.factory.fit``: what kept runs of the factory teach, fitted on one half of the daemons and measured on the other.

Two things are fitted, both linear, regularized and seeded. The *weights* of the kinds of evidence (``verdict/weights.json``): logistic
regression of right against wrong over all claims, drawn toward the numbers of today, with the priors as they are: how often the factory
breaks a thing says nothing of how often that happens. The *reading*: a softmax over the words, word pairs, shape and place of a line,
which says what kind of cause a line speaks of, if any.
"""

from __future__ import annotations

import argparse
import itertools
import json
import re
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import numpy as np
from scipy.optimize import minimize

from bench.factory.replay import kept, unit_of
from bench.factory.trial import Outcome
from bench.faults import brier
from hollow_chain.causes import Case, Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.codec import decode
from hollow_chain.facts.host import Event
from hollow_chain.verdict import diagnose
from hollow_chain.verdict.judge import Verdict
from hollow_chain.verdict.weigh import prior_of, weights

OUT = Path(__file__).parents[1] / "out" / "factory"
KINDS = ("proof", "said", "fits", "hint", "doubt")
NEAR_TODAY = 2.0
"""How strongly the weights are drawn toward those of today: so many claims' worth."""
RIDGE = 2e-4
"""Penalty on the weights of the reading."""
MOST_FEATURES = 4000
LEAST_SEEN = 3
"""Features of the reading: what fewer lines have than this is noise."""
TOLD_BY_WORDS = (
    "config-rejected", "access-denied", "path-missing", "port-held", "port-forbidden", "limit-reached", "call-forbidden", "account-missing",
    "disk-full", "lock-held", "address-missing", "too-open", "killed",
)  # fmt: skip
"""Causes that a line can speak of."""
VAGUE = ("exits-with-error", "exits-at-once", "crash-loop", "unexplained")
"""Answers that say how it ended, and not why."""
NONE = "none"
SURE = (0.3, 0.5, 0.8)
"""Confidences of the reading from which it would count in the place of a vague answer."""


class Sample(NamedTuple):
    """A broken host, and what is said of it today."""

    outcome: Outcome
    verdict: Verdict
    events: list[Event]
    """The lines of its last run, its own ones only."""

    @property
    def right(self) -> list[bool]:
        """Of each claim, whether it is right."""
        o = self.outcome
        return [c.finding.cause in o.wanted and o.place in ("*", c.finding.service) for c in self.verdict.causes]


def samples(names: list[str]) -> list[Sample]:
    """All broken hosts of the kept runs of these *names*, by the rules of today."""
    found = []
    for folder in (OUT / name for name in names):
        for outcome in kept(folder):
            path = folder / outcome.snapshot
            if outcome.state != "broken" or not outcome.snapshot or not path.stat().st_size:
                continue
            facts = Facts(Graph(decode(path.read_bytes())))
            host = facts.graph.document.hosts[0].name
            verdict = diagnose(facts, facts.graph.node(host, unit_of(outcome.target)))
            node = facts.graph.node(host, outcome.unit)
            events = [e for e in Case(facts, node).own_events() if not e.source.startswith("configuration")]
            found.append(Sample(outcome, verdict, events))
    return found


# --- weights


class Claim(NamedTuple):
    """A claim as the weighing sees it."""

    prior: float
    """As a logarithm of odds."""
    counts: np.ndarray[Any, Any]
    right: bool


def claims(found: list[Sample]) -> list[Claim]:
    """Every claim that was made."""
    made = []
    for sample in found:
        for cause, right in zip(sample.verdict.causes, sample.right, strict=True):
            prior = prior_of(cause.finding.cause)
            kinds = Counter(piece.bears for piece in cause.finding.evidence)
            made.append(Claim(np.log(prior / (1 - prior)), np.array([kinds[kind] for kind in KINDS], float), right))
    return made


def fitted(made: list[Claim]) -> np.ndarray[Any, Any]:
    """The logarithms of the ratios of all kinds of evidence."""
    today = np.log([weights().bearings[kind].ratio for kind in KINDS])
    priors, counts = np.array([c.prior for c in made]), np.array([c.counts for c in made])
    right = np.array([c.right for c in made], float)

    def loss(logs: np.ndarray[Any, Any]) -> tuple[float, np.ndarray[Any, Any]]:
        score = np.clip(priors + counts @ logs, -30, 30)
        chance = 1 / (1 + np.exp(-score))
        value = -np.sum(right * np.log(chance + 1e-9) + (1 - right) * np.log(1 - chance + 1e-9)) + NEAR_TODAY * np.sum(
            (logs - today) ** 2
        )
        return float(value), counts.T @ (chance - right) + 2 * NEAR_TODAY * (logs - today)

    return np.asarray(minimize(loss, today, jac=True, method="L-BFGS-B").x)


def score(made: list[Claim], logs: np.ndarray[Any, Any]) -> float:
    """The Brier score of claims under some ratios."""
    ceiling = weights().ceiling
    return brier([(min(float(1 / (1 + np.exp(-(c.prior + c.counts @ logs)))), ceiling), c.right) for c in made])


def weigh(halves: dict[str, list[Sample]]) -> Iterator[str]:
    """Fit the weights on each half, and measure them on the other."""
    today = np.log([weights().bearings[kind].ratio for kind in KINDS])
    for growing, other in (("a", "b"), ("b", "a")):
        learned = fitted(claims(halves[growing]))
        made = claims(halves[other])
        yield f"weights fitted on half {growing}: " + ", ".join(
            f"{k} {r:.1f}" for k, r in zip(KINDS, np.exp(learned), strict=True)
        )
        yield f"  Brier on half {other} ({len(made)} claims): today {score(made, today):.4f}, fitted {score(made, learned):.4f}"
    whole = fitted(claims(halves["a"]) + claims(halves["b"]))
    yield "weights fitted on both: " + ", ".join(f"{k} {r:.1f}" for k, r in zip(KINDS, np.exp(whole), strict=True))


# --- reading

_TOKENS = re.compile(r"/[^\s\"':,()]+|\d+(?:\.\d+)*|[A-Za-z][A-Za-z']*|[\"'=:\[\](){}]")


def features(events: list[Event], index: int, own: set[str]) -> list[str]:
    """What is seen of a line: its words and pairs of words, its shape, its level, its place in the run. *own*: names of the service."""
    event = events[index]
    words = [_word(token, own) for token in _TOKENS.findall(event.text[:400])]
    found = dict.fromkeys(words)
    found |= dict.fromkeys(f"{one} {other}" for one, other in itertools.pairwise(words))
    found[f"level:{event.level}"] = None
    found[f"from the end:{min(len(events) - index, 6)}"] = None
    found[f"from the head:{min(index, 3)}"] = None
    found[f"length:{min(len(words) // 6, 6)}"] = None
    return list(found)


def _word(token: str, own: set[str]) -> str:
    if token.startswith("/"):
        return f"<path {token.split('/')[1]}>"
    if token[0].isdigit():
        return "<number>" if "." not in token else "<dotted>"
    low = token.lower()
    return "<self>" if low in own else low


def names(outcome: Outcome) -> set[str]:
    """Words that are names of the service, from which nothing general is learned."""
    return {part for part in re.split(r"[^a-z]+", outcome.unit.removesuffix(".service").lower()) if len(part) > 2}


class Line(NamedTuple):
    """A line with what it speaks of."""

    seen: list[str]
    speaks_of: str


def lines_of(sample: Sample, choose: Callable[[list[list[str]], str], int] | None) -> list[Line]:
    """The lines of a run: the reason with its cause, the others with none. The reason is the line that names what was broken; else the
    one that *choose* takes; else the run is left out."""
    cause = "lock-held" if sample.outcome.wanted[0] == "stale-lock" else sample.outcome.wanted[0]
    own = names(sample.outcome)
    events = sample.events[-30:]
    seen = [features(events, index, own) for index in range(len(events))]
    if cause not in TOLD_BY_WORDS:
        return [Line(one, NONE) for one in seen]
    named = [i for i, e in enumerate(events) if any(word in e.text for word in sample.outcome.detail)]
    if not named and choose is not None and seen:
        named = [choose(seen, cause)]
    return [Line(one, cause if i in named else NONE) for i, one in enumerate(seen)] if named else []


class Reading(msgspec.Struct):
    """A fitted reading: weights by feature, for each kind of cause."""

    classes: list[str]
    features: dict[str, list[float]]
    bias: list[float]

    def chances(self, seen: list[str]) -> np.ndarray[Any, Any]:
        """How likely a line speaks of each kind of cause."""
        score = np.array(self.bias) + sum(
            (np.array(self.features[f]) for f in seen if f in self.features), np.zeros(len(self.bias))
        )
        raised = np.exp(score - score.max())
        return np.asarray(raised / raised.sum())


def learn(lines: list[Line]) -> Reading:
    """A softmax regression over *lines*, by L-BFGS from zero."""
    classes = [NONE, *sorted({line.speaks_of for line in lines} - {NONE})]
    often = Counter(f for line in lines for f in line.seen)
    kept_ones = [f for f, many in often.most_common(MOST_FEATURES) if many >= LEAST_SEEN]
    place = {f: i for i, f in enumerate(kept_ones)}
    wide = np.zeros((len(lines), len(kept_ones) + 1))
    wide[:, -1] = 1
    for row, line in enumerate(lines):
        for f in line.seen:
            if f in place:
                wide[row, place[f]] = 1
    wanted = np.zeros((len(lines), len(classes)))
    wanted[range(len(lines)), [classes.index(line.speaks_of) for line in lines]] = 1

    def loss(flat: np.ndarray[Any, Any]) -> tuple[float, np.ndarray[Any, Any]]:
        table = flat.reshape(wide.shape[1], len(classes))
        score = wide @ table
        score -= score.max(axis=1, keepdims=True)
        chance = np.exp(score)
        chance /= chance.sum(axis=1, keepdims=True)
        value = -np.sum(wanted * np.log(chance + 1e-12)) / len(lines) + RIDGE * np.sum(table**2)
        return float(value), (wide.T @ (chance - wanted) / len(lines) + 2 * RIDGE * table).ravel()

    table = minimize(
        loss, np.zeros(wide.shape[1] * len(classes)), jac=True, method="L-BFGS-B", options={"maxiter": 200}
    ).x
    table = table.reshape(wide.shape[1], len(classes)).round(2)
    return Reading(
        classes, {f: table[i].tolist() for f, i in place.items() if np.abs(table[i]).max() > 0.05}, table[-1].tolist()
    )


def learned_from(found: list[Sample]) -> Reading:
    """Twice: the second time, the first says which line is the reason where no word names it."""
    first = learn([line for sample in found for line in lines_of(sample, None)])

    def choose(seen: list[list[str]], cause: str) -> int:
        at = first.classes.index(cause) if cause in first.classes else 0
        return int(np.argmax([first.chances(one)[at] for one in seen]))

    return learn([line for sample in found for line in lines_of(sample, choose)])


def told(reading: Reading, sample: Sample) -> tuple[str, float]:
    """The kind of cause that the run speaks of most clearly, and how clearly."""
    own, events = names(sample.outcome), sample.events[-30:]
    best = (NONE, 0.0)
    for index in range(len(events)):
        chances = reading.chances(features(events, index, own))
        at = int(np.argmax(chances[1:])) + 1
        if chances[at] > best[1]:
            best = reading.classes[at], float(chances[at])
    return best


def read(halves: dict[str, list[Sample]]) -> Iterator[str]:
    """Fit the reading on each half, and measure on the other what forms, the reading, and both are worth."""
    for growing, other in (("a", "b"), ("b", "a")):
        reading = learned_from(halves[growing])
        size = len(json.dumps(msgspec.to_builtins(reading)))
        told_of = [(sample, *told(reading, sample)) for sample in halves[other]]
        spoken = [one for one in told_of if one[0].events and one[0].outcome.wanted[0] in TOLD_BY_WORDS]
        alone = sum(cause in sample.outcome.wanted for sample, cause, _ in spoken)
        yield f"reading fitted on half {growing} ({len(reading.features)} features, {size >> 10} KB), on half {other}:"
        yield f"  runs that say something ({len(spoken)}): forms alone {sum(_right(s) for s, *_ in spoken)}, learned alone {alone}"
        for least in SURE:
            both = [_with_both(one, least) for one in told_of]
            spoiled = sum(_right(one[0]) and not now for one, now in zip(told_of, both, strict=True))
            yield (
                f"  all ({len(told_of)}): forms alone {sum(_right(s) for s, *_ in told_of)}, both from {least} on {sum(both)}, "
                f"right answers spoiled {spoiled}"
            )


def _right(sample: Sample) -> bool:
    return bool(sample.right) and sample.right[0]


def _with_both(one: tuple[Sample, str, float], least: float) -> bool:
    """Whether the answer is right where the reading stands in for a vague one."""
    sample, cause, sure = one
    vague = not sample.verdict.causes or sample.verdict.causes[0].finding.cause in VAGUE
    return cause in sample.outcome.wanted if vague and sure >= least and sample.events else _right(sample)


def main() -> None:
    """Fit, measure, print."""
    parser = argparse.ArgumentParser(prog="python -m bench.factory.fit", description=main.__doc__)
    parser.add_argument("names", nargs="*", help="kept runs of the factory; all where left out")
    given = parser.parse_args()
    found = samples(given.names or sorted(p.parent.name for p in OUT.glob("*/outcomes.jsonl")))
    halves = {half: [s for s in found if s.outcome.half == half] for half in ("a", "b")}
    print(f"{len(found)} broken hosts: half a {len(halves['a'])}, half b {len(halves['b'])}")
    if not all(halves.values()):
        print("both halves are needed: run the factory first, as 'make factory' does")
        return
    for line in (*weigh(halves), *read(halves)):
        print(line)


if __name__ == "__main__":
    main()
