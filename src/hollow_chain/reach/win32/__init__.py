"""What only Win32 systems have: the one folder that imports it. Nothing outside imports from here before it is needed."""
