"""Startup: the service is whole, but its startup type, or somebody, keeps it down; or nobody has started it since it was put right."""
