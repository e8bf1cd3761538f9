"""Dependency: what it needs and is no service of its own: links that do not hold, file systems, devices."""
