"""How a host is reached: its files by handle. Readers (``sources``) and hands (``mend``) stand on it."""
