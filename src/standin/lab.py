"""``python -m standin.lab``: prepare a real guest disk and register a machine with it at a running stand-in."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

import httpx

from standin.labguest import ROOTS, default_cache, prepare


def main() -> int:
    """Prepare, then register."""
    parser = argparse.ArgumentParser(
        prog="bathotype lab",
        description="Prepare a real Debian guest once, in a cache folder, and register it as a machine at the stand-in. "
        "STANDIN_URL and STANDIN_OPERATOR_TOKEN (in DIR/demo.env) say which stand-in.",
    )
    parser.add_argument("--root", choices=ROOTS, default="ext4", help="root file system of the guest (default: ext4)")
    parser.add_argument("--name", help="of the machine (default: gauge-lab-01, or gauge-lab-btrfs-01)")
    parser.add_argument("--account", default="tide-core")
    parser.add_argument("--region", default="skerry-1")
    parser.add_argument("--size", default="lab-small")
    parser.add_argument("--data-disk", action="append", default=[], metavar="DISK", help="id of an unused disk it gets")
    parser.add_argument("--off", action="store_true", help="leave the machine switched off")
    parser.add_argument("--prepare-only", action="store_true", help="fill the cache, register nothing")
    parser.add_argument("--cache", type=Path, default=default_cache(), help="default: %(default)s")
    given = parser.parse_args()
    try:
        image = prepare(given.cache, given.root, lambda line: print(line, file=sys.stderr, flush=True))
    except (RuntimeError, OSError) as error:
        print(f"bathotype lab: {error}", file=sys.stderr)
        return 1
    if given.prepare_only:
        print(image)
        return 0
    name = given.name or ("gauge-lab-01" if given.root == "ext4" else f"gauge-lab-{given.root}-01")
    return _register(given, name, image)


def _register(given: argparse.Namespace, name: str, image: Path) -> int:
    url, token = os.environ.get("STANDIN_URL"), os.environ.get("STANDIN_OPERATOR_TOKEN")
    if not url or not token:
        print("bathotype lab: STANDIN_URL and STANDIN_OPERATOR_TOKEN are not set: `. DIR/demo.env`.", file=sys.stderr)
        return 2
    body = {
        "name": name,
        "account": given.account,
        "region": given.region,
        "size": given.size,
        "image": str(image),
        "on": not given.off,
        "data_disks": given.data_disk,
    }
    headers = {"Authorization": f"Bearer {token}"}
    try:
        answer = httpx.post(f"{url}/v1/lab/machines", json=body, headers=headers, timeout=60, trust_env=False)
    except httpx.TransportError as error:
        print(f"bathotype lab: the stand-in does not answer: {error}", file=sys.stderr)
        return 1
    if answer.status_code >= 400:
        print(f"bathotype lab: {answer.json().get('detail')}", file=sys.stderr)
        return 4
    state = "off" if given.off else "booting (about a minute under emulation)"
    print(f"{name} is registered in {given.region}: {state}", file=sys.stderr)
    print(answer.json()["id"])
    return 0


if __name__ == "__main__":
    sys.exit(main())
