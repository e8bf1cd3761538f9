"""Readers of hosts whose services systemd manages."""
