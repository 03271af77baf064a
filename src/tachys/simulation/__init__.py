"""The event-driven engine and what comes out of it: statistics, timelines, the worst case to look at."""
