"""Where facts come from. Each source reads; none of them judges."""
