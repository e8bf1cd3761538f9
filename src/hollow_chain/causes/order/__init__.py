"""Time: limits that ran out, limits that are mistyped, boots where everything starts at once, starts that come too often."""
