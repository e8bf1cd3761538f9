"""The license chain: the entitlement file, the wire protocol, the stand-in server, and what asks it."""
