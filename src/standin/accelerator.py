"""Whether KVM really runs code here: a boot sector that ends QEMU by itself must do so within a few seconds."""

from __future__ import annotations

import os
import subprocess
import tempfile
from functools import lru_cache

from standin.disks import tool

#: mov al, 0x10; mov dx, 0x501; out dx, al; hlt
_SECTOR = bytes.fromhex("b010ba0105eef4").ljust(510, b"\0") + b"\x55\xaa"
_ENDED = 0x10 << 1 | 1
_WITHIN = 5.0


@lru_cache
def accelerator() -> str:
    """``kvm`` only where it was asked for (STANDIN_ACCELERATOR=kvm) and works; else ``tcg``."""
    return "kvm" if os.environ.get("STANDIN_ACCELERATOR") == "kvm" and runs_with("kvm") else "tcg"


def runs_with(name: str) -> bool:
    """Whether a machine with this accelerator executes its boot sector."""
    with tempfile.NamedTemporaryFile() as disk:
        disk.write(_SECTOR)
        disk.flush()
        command = [
            tool("qemu-system-x86_64"), "-accel", name, "-display", "none", "-nodefaults", "-m", "16",
            "-drive", f"file={disk.name},format=raw,if=ide,snapshot=on",
            "-device", "isa-debug-exit,iobase=0x501,iosize=1",
        ]  # fmt: skip
        try:
            return subprocess.run(command, capture_output=True, timeout=_WITHIN, check=False).returncode == _ENDED
        except subprocess.TimeoutExpired:
            return False
