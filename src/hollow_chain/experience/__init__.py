"""What was learned from cases: a store of verdicts, plans and outcomes, and the priors that confirmed ones move."""
