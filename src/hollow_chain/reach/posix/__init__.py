"""What only POSIX systems have: the one folder that imports it. Nothing outside imports from here before it is needed."""
