"""A region with ten thousand instances reconciled, and two hundred machines launched from one copy and from several."""

from __future__ import annotations

import random
import time
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import create_engine, insert, select

from bathotype.demo.system import DemoSystem
from bathotype.service.database import Database, sqlalchemy_url
from bathotype.service.records import Account, Instance
from bathotype.service.upkeep.instances import Follower
from bathotype.sites.standin import StandinSite
from bench.report import Row
from standin.demo import WORLD, build_boot_disk
from standin.records import Machine

_INSTANCES, _LIMIT = 10_000, 30.0
_BURST, _COPIES = 200, 4


def rows(system: DemoSystem, folder: Path) -> list[Row]:
    """Both, over a running demo."""
    return [*burst(system, folder), *reconciled(system)]


def burst(system: DemoSystem, folder: Path) -> list[Row]:
    """The stand-in lets four clones of one base disk begin in a second; more copies are launched from side by side."""
    image = folder / "small.raw"
    spec = next(s for s in WORLD if s.name == "gauge-seed-01")
    build_boot_disk(image, spec, "192.0.2.10", random.Random("burst"))
    seconds = {}
    with system.client() as client:
        client.create_line("burst")
        upload = client.upload(image, region="skerry-1").id
        done = client.wait(client.import_image(upload=upload, line="burst", number="1.0.0", region="skerry-1").id)
        reference = str((done.result or {})["reference"])
        client.release(reference)
        for copies in (1, _COPIES):
            client.wait(client.replicate(reference, [{"region": "skerry-1", "copies": copies}])[0].id)
            began = time.monotonic()
            started = client.launch(
                reference=reference, region="skerry-1", count=_BURST, name=f"burst-{copies}-{{n}}", wait_seconds=600
            )
            while any(i.state == "pending" for i in client.instances(version=reference)):
                time.sleep(0.2)
            seconds[copies] = time.monotonic() - began
            client.wait(started.id)
            for instance in list(client.instances(version=reference)):
                client.act_on_instance(instance.name, "terminate")
    image.unlink()
    one, more = seconds[1], seconds[_COPIES]
    return [
        Row(
            f"{_BURST} launches from {_COPIES} copies until each machine is told to boot", f"{more:.1f} s",
            "the same from one copy", f"{one:.1f} s", more / one, 1.0,
        )
    ]  # fmt: skip


def reconciled(system: DemoSystem) -> list[Row]:
    """Machines at the stand-in and instances in the records, put there directly: only the comparison is measured."""
    database = Database(system.postgres.url("bathotype"), pool_size=2)
    when = datetime(2026, 1, 1, tzinfo=UTC)
    place = {"region": "lagoon-3", "zone": "lagoon-3a", "size": "small", "state": "stopped"}
    addresses = [f"10.0.{n // 250}.{n % 250}" for n in range(_INSTANCES)]
    engine = create_engine(sqlalchemy_url(system.postgres.url("standin")))
    with engine.begin() as site:
        machines = [
            {**place, "id": f"m-{n:012x}", "account": "harbour-watch", "name": f"many-{n}", "address": address,
             "mac": "52:54:00:00:00:01", "created_at": when}
            for n, address in enumerate(addresses)
        ]  # fmt: skip
        site.execute(insert(Machine), machines)
    engine.dispose()
    with database.sessions.begin() as session:
        account = session.scalars(select(Account.id).where(Account.name == "harbour-watch")).one()
        version = session.connection().exec_driver_sql("select id from versions limit 1").scalar_one()
        instances = [
            {**place, "id": f"in-many-{n:06}", "account_id": account, "version_id": version, "name": f"many-{n}",
             "origin": "launched", "site_machine": f"m-{n:012x}", "address": address, "host_name": "", "launched_at": when}
            for n, address in enumerate(addresses)
        ]  # fmt: skip
        session.execute(insert(Instance), instances)
    began = time.monotonic()
    site_view = StandinSite(system.site_url, system.secrets["site"]["harbour-watch"])
    Follower(database, account, "lagoon-3").compare(iter(site_view.machines("lagoon-3")))
    took = time.monotonic() - began
    with database.sessions() as session:
        seen = session.connection().exec_driver_sql(
            "select count(*) from instances where name like 'many-%%' and seen_at is not null and state = 'stopped'"
        )
        assert seen.scalar_one() == _INSTANCES
    database.close()
    return [
        Row(
            f"{_INSTANCES:,} instances of a region reconciled",
            f"{took:.1f} s",
            f"{_LIMIT:.0f} s",
            "",
            took / _LIMIT,
            1.0,
        ),
    ]
