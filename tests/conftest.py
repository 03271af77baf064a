"""How long the property tests look: a little in every run, long on demand (make soak)."""

from hypothesis import HealthCheck, settings

quiet = {"deadline": None, "suppress_health_check": list(HealthCheck), "print_blob": False}
settings.register_profile("quick", max_examples=30, derandomize=True, **quiet)
settings.register_profile("soak", max_examples=20_000, **quiet)
settings.load_profile("quick")


def pytest_sessionstart(session):
    """Where tests run on several cores, what is compiled is compiled once, before they begin."""
    if not getattr(session.config.option, "numprocesses", None) or hasattr(session.config, "workerinput"):
        return
    from tachys.warming import is_done, warm

    if not is_done():
        list(warm())


def pytest_collection_modifyitems(config, items):
    """Of the cases by chance of a test some, evenly: all of them look for long (make soak)."""
    most, cases = config.getoption("--seeds"), {}
    for item in items:
        named = getattr(getattr(item, "callspec", None), "params", {})
        if "seed" in named:
            others = sorted((name, str(value)) for name, value in named.items() if name != "seed")
            cases.setdefault((item.parent, item.originalname, str(others)), []).append(item)
    left_out = {item for same in cases.values() for k, item in enumerate(same) if k * most % len(same) >= most}
    config.hook.pytest_deselected(items=left_out)
    items[:] = [item for item in items if item not in left_out]


def pytest_addoption(parser):
    parser.addoption("--seeds", type=int, default=8, help="of how many cases by chance each test looks at most")
    parser.addoption("--sets", type=int, default=12, help="how many sets of routines priorities are found for")
    parser.addoption("--routines", type=int, default=5, help="how many routines are in such a set at most")
    parser.addoption("--boards", type=int, default=6, help="how many boards by chance a check is held against")
