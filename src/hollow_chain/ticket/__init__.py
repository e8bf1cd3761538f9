"""The ticket: one self-contained page about a verdict, a plan, a service or a case, to be handed on."""
