"""What is known of hosts: pure data, and how it is read from and written to bytes."""

from hollow_chain.facts.host import FORMAT, VERSION, Host, Snapshot, snapshot
from hollow_chain.facts.service import Link, Service

__all__ = ["FORMAT", "VERSION", "Host", "Link", "Service", "Snapshot", "snapshot"]
