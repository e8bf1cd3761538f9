"""Process: the program was started, and did not stay."""
