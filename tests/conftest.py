"""How long the property tests look: a little in every run, long on demand (make soak)."""

from hypothesis import HealthCheck, settings

quiet = {"deadline": None, "suppress_health_check": list(HealthCheck), "print_blob": False}
settings.register_profile("quick", max_examples=150, derandomize=True, **quiet)
settings.register_profile("soak", max_examples=20_000, **quiet)
settings.load_profile("quick")


def pytest_addoption(parser):
    parser.addoption("--boards", type=int, default=12, help="how many boards by chance a check is held against")
