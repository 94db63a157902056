"""The names of the formats that versions are written in."""

from typing import Literal

ExportFormat = Literal["raw", "qcow2", "qcow2-zstd", "vhd", "vhd-fixed", "vhdx", "vmdk", "vmdk-stream", "ova"]
