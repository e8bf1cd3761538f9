"""What was changed lately on a host, what of it may have to do with a failure, and what differs between two readings."""
