"""A start that is watched: what its processes tried, what failed, and what of that ended it."""
