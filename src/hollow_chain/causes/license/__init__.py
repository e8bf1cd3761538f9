"""License: application, license server, license daemon, entitlement; the first of them that does not hold."""
