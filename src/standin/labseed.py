"""The first-boot seed of a lab machine: its name and network, on a FAT volume labelled CIDATA (NoCloud)."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

from standin.disks import tool

_NETWORK = "version: 2\nethernets:\n  eth0:\n    match: {{macaddress: '{mac}'}}\n    set-name: eth0\n    dhcp4: true\n"


def lab_seed(machine_id: str, name: str, mac: str) -> bytes:
    """The bytes of the volume."""
    files = {
        "meta-data": f"instance-id: {machine_id}\nlocal-hostname: {name}\n",
        "user-data": "#cloud-config\nmanage_etc_hosts: true\n",
        "network-config": _NETWORK.format(mac=mac),
    }
    with tempfile.TemporaryDirectory() as folder:
        volume = Path(folder) / "volume"
        with volume.open("wb") as file:
            file.truncate(256 * 1024)
        subprocess.run([tool("mkfs.vfat"), "-n", "CIDATA", str(volume)], check=True, capture_output=True)
        for file_name, text in files.items():
            (Path(folder) / file_name).write_text(text)
            subprocess.run([tool("mcopy"), "-i", str(volume), f"{folder}/{file_name}", "::/"], check=True)
        return volume.read_bytes()
