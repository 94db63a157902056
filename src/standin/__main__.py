"""``python -m standin``: serve the stand-in cloud."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

import uvicorn

from standin.app import create_app
from standin.demo import populate
from standin.site import Site
from standin.world import Tenancy


def main() -> None:
    """Parse the arguments and serve until stopped."""
    parser = argparse.ArgumentParser(prog="standin", description="A small simulated cloud with real disks.")
    parser.add_argument("--data-dir", type=Path, required=True, help="where disks and state lie")
    parser.add_argument("--port", type=int, required=True, help="port on loopback")
    parser.add_argument("--tenancy", type=Path, required=True, help="JSON file with accounts and tokens")
    parser.add_argument("--demo", metavar="SEED", help="fill an empty stand-in with the demo world")
    parser.add_argument("--latency-ms", type=float, default=0, help="added to every call")
    parser.add_argument(
        "--clones-per-second",
        type=float,
        default=4,
        help="machines that can be begun from one base disk (default: 4)",
    )
    given = parser.parse_args()
    given.data_dir.mkdir(parents=True, exist_ok=True)
    # The database address holds a password, so it comes by environment, never in argv.
    site = Site(given.data_dir, os.environ["STANDIN_DATABASE_URL"], clones_per_second=given.clones_per_second)
    tenancy = Tenancy.load(given.tenancy)
    if given.demo:
        populate(site, tenancy, given.demo, given.data_dir / "templates")
    app = create_app(site, tenancy, latency=given.latency_ms / 1000)
    uvicorn.run(
        app, host="127.0.0.1", port=given.port, log_level="warning", ws="websockets-sansio", timeout_graceful_shutdown=2
    )


if __name__ == "__main__":
    main()
