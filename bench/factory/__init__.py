"""A factory of faults: general ways to break a service (*operators*) times services that the program has never been fitted to.

An operator knows nothing of the daemon that it breaks: what it needs (account, files, endpoints) is looked up on a healthy host, by
watching one good start (:mod:`probe`). A combination counts only if its target is whole without it and broken with it, both seen by
the manager's own words and the socket table; what is right follows from what was done. The daemons are in two halves: rules and
weights are grown on one and measured on the other.
"""
