"""Fixtures: disks of the demo world, and the whole system on loopback."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from xdist.remote import Producer
from xdist.scheduler import LoadFileScheduling

from standin import demo as world
from tests.office import Cluster, Office, open_office, running_cluster
from tests.support import System, command_line, forget_prepared, running_system

# The system's processes are started dozens of times: let them keep what they compiled.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)

settings.register_profile("here", deadline=None, max_examples=60)
settings.load_profile("here")


@pytest.fixture(scope="session")
def demo_disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The boot disk of gauge-seed-01, as the stand-in makes it; copy it before changing it."""
    return _build("gauge-seed-01", tmp_path_factory)


@pytest.fixture(scope="session")
def mbr_disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A lived-in disk with an MBR."""
    return _build("surge-old-01", tmp_path_factory)


def _build(name: str, factory: pytest.TempPathFactory) -> Path:
    spec = next(s for s in world.WORLD if s.name == name)
    path = factory.mktemp("disks") / f"{name}.raw"
    world.build_boot_disk(path, spec, "192.0.2.10", random.Random(name))
    return path


_SYSTEM = pytest.StashKey[System]()


@pytest.fixture(scope="session")
def system(request: pytest.FixtureRequest) -> Iterator[System]:
    """PostgreSQL, stand-in, service and worker, all real, started once."""
    with running_system() as running:
        request.config.stash[_SYSTEM] = running
        yield running
        running.sleep(False)
        del request.config.stash[_SYSTEM]


@pytest.hookimpl(tryfirst=True)
def pytest_runtest_setup(item: pytest.Item) -> None:
    """The system sleeps while tests run that do not use it: its upkeep, every two seconds here, delays them."""
    if running := item.config.stash.get(_SYSTEM, None):
        running.sleep("system" not in getattr(item, "fixturenames", ()))


@pytest.fixture
def cli(system: System) -> Callable[..., subprocess.CompletedProcess[str]]:
    """Run the command line against the running system; returns as of a finished process."""

    def run(*argv: str, account: str = "tide-core") -> subprocess.CompletedProcess[str]:
        return command_line(*argv, BATHOTYPE_URL=system.url, BATHOTYPE_TOKEN=system.secrets["api"][account])

    return run


#: Modules that take longest go first, then the others of whole systems: no process is left with one of them in the end.
LONGEST = (
    "test_real_guest",
    "test_console",
    "test_pages",
    "test_kill_points",
    "test_faults",
    "test_demo",
    "test_proving",
    "test_builds",
    "test_many_at_once",
    "test_any_order",
)


class _Files(LoadFileScheduling):
    """Gives a process whole files, and all of the console's, which share a demo."""

    def _split_scope(self, nodeid: str) -> str:
        return "console" if nodeid.startswith("tests/console/") else super()._split_scope(nodeid)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: Producer) -> LoadFileScheduling:
    """xdist's own groups do nothing with this pytest, whose items keep their names."""
    return _Files(config, log)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The modules that take longest go first: xdist hands out files in this order."""
    rank = {name: number for number, name in enumerate(LONGEST)}
    items.sort(key=lambda item: (rank.get(item.path.stem, len(rank)), item.path.parent.name != "system"))


def pytest_sessionfinish(session: pytest.Session) -> None:
    """The process that leads the run removes what all have shared."""
    if not hasattr(session.config, "workerinput"):
        forget_prepared()


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    """One PostgreSQL server for all tests of this process that run the service in process."""
    # Not pytest's own folder: the database server's user must be able to walk there.
    folder = Path(tempfile.mkdtemp(prefix="bathotype-cluster-"))
    folder.chmod(0o711)
    try:
        with running_cluster(folder) as cluster:
            yield cluster
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def office(cluster: Cluster, tmp_path: Path) -> Iterator[Office]:
    """The service in this process, with nothing in it."""
    with open_office(cluster, tmp_path) as office:
        yield office


@pytest.fixture(scope="module")
def shared_office(cluster: Cluster, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Office]:
    """The same for all tests of a module that only look, or keep out of each other's way."""
    with open_office(cluster, tmp_path_factory.mktemp("office")) as office:
        yield office
