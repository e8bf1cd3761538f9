"""A program becomes a service, and one comes off again: what is wished, the definition that says it, and what speaks against it."""
