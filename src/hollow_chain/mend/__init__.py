"""From a verdict to a plan: ordered steps, proven on a copy of the facts, carried out, and taken back."""
