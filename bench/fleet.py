"""A region with ten thousand instances reconciled, and two hundred machines launched from one copy and from several."""

from __future__ import annotations

import random
import time
from pathlib import Path

import psycopg
from sqlalchemy import select

from bathotype.demo.system import DemoSystem
from bathotype.service.database import Database
from bathotype.service.records import Account
from bathotype.service.upkeep.instances import Follower
from bathotype.sites.standin import StandinSite
from bench.report import Row
from standin.demo import WORLD, build_boot_disk

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
    with psycopg.connect(system.postgres.url("standin")) as site, site.cursor() as cursor:
        columns = "id, account, region, zone, name, size, body, state, address, mac, tags, guest, console, created_at"
        with cursor.copy(f"copy machines ({columns}) from stdin") as copy:
            for n in range(_INSTANCES):
                copy.write_row(
                    (f"m-{n:012x}", "harbour-watch", "lagoon-3", "lagoon-3a", f"many-{n}", "small", "modelled", "stopped",
                     f"10.0.{n // 250}.{n % 250}", "52:54:00:00:00:01", "{}", "{}", "", "2026-01-01T00:00:00Z")
                )  # fmt: skip
    with database.sessions.begin() as session:
        account = session.scalars(select(Account.id).where(Account.name == "harbour-watch")).one()
        version = session.connection().exec_driver_sql("select id from versions limit 1").scalar_one()
    with psycopg.connect(system.postgres.url("bathotype")) as records, records.cursor() as cursor:
        columns = (
            "id, account_id, version_id, name, region, zone, size, state, origin, site_machine, address, host_name, first_boot, "
            "identity, launched_at"
        )
        with cursor.copy(f"copy instances ({columns}) from stdin") as copy:
            for n in range(_INSTANCES):
                copy.write_row(
                    (f"in-many-{n:06}", account, version, f"many-{n}", "lagoon-3", "lagoon-3a", "small", "stopped",
                     "launched", f"m-{n:012x}", f"10.0.{n // 250}.{n % 250}", "", "{}", "{}", "2026-01-01T00:00:00Z")
                )  # fmt: skip
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
