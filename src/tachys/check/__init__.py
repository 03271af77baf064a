"""Model, bounds and capture side by side: what was measured, whether it agrees, what follows for each need.

``tachys.check(system, capture)`` does it all.
"""

from tachys.callable_package import make_callable

make_callable(__name__, "tachys.check.checking", "check")
