"""How long the property tests look: a little in every run, long on demand (make soak)."""

from hypothesis import HealthCheck, settings

quiet = {"deadline": None, "suppress_health_check": list(HealthCheck), "print_blob": False}
settings.register_profile("quick", max_examples=50, derandomize=True, **quiet)
settings.register_profile("soak", max_examples=20_000, **quiet)
settings.load_profile("quick")


def pytest_sessionstart(session):
    """Where tests run on several cores, what is compiled is compiled once, before they begin."""
    if not getattr(session.config.option, "numprocesses", None) or hasattr(session.config, "workerinput"):
        return
    from tachys.warming import is_done, warm

    if not is_done():
        list(warm())


def pytest_addoption(parser):
    parser.addoption("--sets", type=int, default=40, help="how many sets of routines priorities are found for")
    parser.addoption("--routines", type=int, default=5, help="how many routines are in such a set at most")
    parser.addoption("--boards", type=int, default=12, help="how many boards by chance a check is held against")
