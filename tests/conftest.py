"""Fixtures: the real service started once per worker, and packages made by the real tool chain."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from tests import empty_records, nursery, quick_hashes
from tests.harbour import Harbour
from tests.toolchain import Recipe, make_apk

settings.register_profile("any machine", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("any machine")
empty_records.install()
quick_hashes.install()


def pytest_configure(config: pytest.Config) -> None:
    """One nursery for all workers, which loads while they collect; without workers it is started when it is wanted."""
    if config.getoption("numprocesses", None):
        nursery.open_nursery()


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Every test has a name of its own: of tests that share one, parallel runs would run the first alone."""
    shared = sorted(name for name, times in Counter(item.nodeid for item in items).items() if times > 1)
    if shared:
        raise pytest.UsageError(f"several tests are called {', '.join(shared)}")


@pytest.fixture(scope="session")
def harbour(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    """A desk with both stores connected, shared by the tests of a worker; each test uses an app of its own."""
    opened = Harbour.open(tmp_path_factory.mktemp("harbour"))
    opened.connect_stores()
    yield opened
    opened.close()


@pytest.fixture(autouse=True)
def calm_again(request: pytest.FixtureRequest) -> Iterator[None]:
    """What a test did to the stores of the shared desk ends with it, also when it failed."""
    yield
    if "harbour" in request.fixturenames:
        request.getfixturevalue("harbour").calm()


@pytest.fixture
def own_harbour(tmp_path: Path) -> Iterator[Harbour]:
    """A desk for one test alone, which may kill it."""
    opened = Harbour.open(tmp_path / "harbour")
    opened.connect_stores()
    yield opened
    opened.close()


@pytest.fixture(scope="session")
def real_apk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An APK made by aapt2, zipalign and apksigner."""
    return make_apk(tmp_path_factory.mktemp("apk") / "marram", Recipe())
