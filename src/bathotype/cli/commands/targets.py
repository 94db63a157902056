"""``fits``: whether an image would be taken in at another place."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bathotype.cli.options import Subparsers, command, target_of
from bathotype.cli.output import emit_json, say, show_remarks
from bathotype.core.errors import REFUSED
from bathotype.core.units import agree, plural

if TYPE_CHECKING:
    from bathotype.client import Client

_EXAMPLES = """\
  bathotype fits gauge-collector@1.0.0 --target quay.yaml
  bathotype fits ./gauge.vmdk --target quay.yaml --region skerry-1

quay.yaml:
  name: quay
  largest_disk: 2 TiB
  formats: [qcow2]
  boot: [uefi, bios]
  disk_drivers: [virtio-blk]
  systems: [debian, halvane]
  packages: [cloud-init]
  generalized: true
  no_high_findings: true"""


def register(parsers: Subparsers) -> None:
    """Add the command."""
    parser = command(
        parsers, "fits", _fits, "judge a version or an image file by what another place demands", examples=_EXAMPLES
    )
    parser.add_argument("image", metavar="REF|FILE|s3://BUCKET/KEY", help="a file is given with its folder, as ./FILE")
    parser.add_argument("--target", required=True, metavar="FILE", help="YAML with the demands (docs/formats.md)")
    parser.add_argument("--format", help="of a file (default: recognised)")
    parser.add_argument("--region", help="where a file is looked at")


def _fits(client: Client, given: argparse.Namespace) -> int:
    target, image = target_of(given.target), str(given.image)
    upload = None
    asked: dict[str, Any] = {"format": given.format}
    if image.startswith("s3://"):
        asked["url"] = image
    elif "@" not in image and ("/" in image or Path(image).is_file()):
        region = given.region or sorted(region.name for region in client.regions())[0]
        upload = asked["upload"] = client.upload(Path(image), region=region).id
    else:
        asked["reference"] = image
    try:
        found = client.check_target(target, **asked)
    finally:
        if upload:
            client.drop_upload(upload)
    if given.json:
        emit_json(found)
    else:
        show_remarks(found.rows)
        missing = sum(row.outcome != "ok" for row in found.rows)
        unmet = f"{missing} of {plural(len(found.rows), 'demand')} {agree(missing, 'is', 'are')} not met, or not known to be"
        what = "fits" if found.fits else f"does not fit: {unmet}"
        say(f"{found.image} {what} ({found.target}).", style="green4" if found.fits else "red")
    return 0 if found.fits else REFUSED
