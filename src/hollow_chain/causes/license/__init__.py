"""License: application, license server, publisher daemon, entitlement; the first of them that does not hold."""
