"""What must hold: each kind of need with its bound on paper and its misses in what was seen, and the law of verdicts.

The same judge looks at a simulation (to the picosecond) and at a capture (to its resolution).
"""
