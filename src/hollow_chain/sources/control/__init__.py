"""Readers of hosts of the control-manager family."""
