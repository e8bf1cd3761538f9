"""Findings to a verdict: which explain which, how sure, what to look at next."""

from hollow_chain.verdict.judge import Cause, Verdict, diagnose, diagnose_all
from hollow_chain.verdict.looks import NextLook
from hollow_chain.verdict.walk import is_hollow, is_missed, let_down

__all__ = ["Cause", "NextLook", "Verdict", "diagnose", "diagnose_all", "is_hollow", "is_missed", "let_down"]
