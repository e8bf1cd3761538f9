"""Account: who the service runs as, and what that account may do."""
