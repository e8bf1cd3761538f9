"""Findings to a verdict: which explain which, how sure, what to look at next."""

from hollow_chain.verdict.judge import Cause, NextLook, Verdict, diagnose, diagnose_all

__all__ = ["Cause", "NextLook", "Verdict", "diagnose", "diagnose_all"]
