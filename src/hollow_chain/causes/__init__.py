"""The catalogue of causes: a module a family, a rule a cause."""

from hollow_chain.causes.case import Case, Facts
from hollow_chain.causes.finding import HINT, Evidence, Finding, Mend
from hollow_chain.causes.rule import Rule, catalogue, cause, rule_of, rules_for
from hollow_chain.causes.standing import Standing, standing

__all__ = [
    "HINT",
    "Case",
    "Evidence",
    "Facts",
    "Finding",
    "Mend",
    "Rule",
    "Standing",
    "catalogue",
    "cause",
    "rule_of",
    "rules_for",
    "standing",
]
