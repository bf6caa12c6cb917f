"""All accounts at once: the map, who, compare, and what wants attention."""
