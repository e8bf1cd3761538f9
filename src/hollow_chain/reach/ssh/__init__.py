"""Hosts that are reached over SSH (RFC 4251): nothing is put on them, and they need no more than what every one of them has."""
