"""A real guest disk from Debian's packages: made once, kept in a cache folder.

A minimal Debian with systemd, cloud-init, the guest agent, an SSH server and a small web server.  The disk boots by
itself in BIOS machines: a GPT, a FAT partition with syslinux, kernel and initrd, and the root file system.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from standin import labfiles
from standin.disks import partitions, tool

MIB = 1024 * 1024
ROOTS = ("ext4", "btrfs")
DISK_MIB = 2048
_BOOT_MIB = 64


def default_cache() -> Path:
    """BATHOTYPE_LAB_CACHE, or a folder in the user's cache."""
    given = os.environ.get("BATHOTYPE_LAB_CACHE")
    base = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    return Path(given) if given else base / "bathotype-lab"


def prepare(cache: Path, root: str, say: Callable[[str], None] = lambda line: None) -> Path:
    """The guest disk with a root file system of this kind; made where the cache does not have it.

    Raises `RuntimeError` with the end of the failing tool's output.
    """
    cache.mkdir(parents=True, exist_ok=True)
    made_by = b"".join(file.read_bytes() for file in (Path(__file__), Path(labfiles.__file__), labfiles.STAGES_PY))
    recipe = hashlib.sha256(made_by).hexdigest()[:12]
    image = cache / f"{recipe}-{root}.raw"
    with _alone(cache):
        if image.exists():
            say(f"The guest disk is ready: {image}")
            return image
        tree = cache / f"{recipe}-tree"
        if not tree.exists():
            say("Fetching Debian packages and installing them into a folder (about a minute) ...")
            _make_tree(tree)
        say(f"Making a bootable disk with a {root} root file system ...")
        part = image.with_suffix(".part")
        _make_disk(part, tree, root)
        part.chmod(0o440)
        part.rename(image)
    say(f"The guest disk is ready: {image}")
    return image


@contextmanager
def _alone(cache: Path) -> Iterator[None]:
    with (cache / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def _run(argv: list[str], **options: object) -> None:
    done = subprocess.run(argv, capture_output=True, text=True, check=False, **options)  # type: ignore[call-overload]
    if done.returncode:
        told = (done.stderr or done.stdout).strip().splitlines()
        raise RuntimeError(f"{Path(argv[0]).name} failed: {' '.join(told[-4:])}")


def _sources() -> tuple[str, list[str]]:
    """This system's release, and the files that say where its packages come from."""
    facts = dict(
        line.split("=", 1) for line in Path("/etc/os-release").read_text().splitlines() if "=" in line
    )  # fmt: skip
    release = facts.get("VERSION_CODENAME", "").strip('"')
    folder = Path("/etc/apt")
    files = [folder / "sources.list", *sorted(folder.glob("sources.list.d/*.sources"))]
    files += sorted(folder.glob("sources.list.d/*.list"))
    found = [str(f) for f in files if f.exists() and release in f.read_text().replace("\n", " ").split()]
    if facts.get("ID") != "debian" or not found:
        raise RuntimeError("the lab guest is made from this system's own package sources, which must be Debian's")
    return release, found


def _make_tree(tree: Path) -> None:
    if os.geteuid() != 0:
        raise RuntimeError("installing packages into a folder needs root")
    release, sources = _sources()
    part = tree.with_name(tree.name + ".part")
    shutil.rmtree(part, ignore_errors=True)
    early = part.with_suffix(".early")
    shutil.rmtree(early, ignore_errors=True)
    _write(early, labfiles.EARLY_FILES)
    _run(
        [
            tool("mmdebstrap"), "--quiet", "--variant=minbase", "--mode=root", f"--include={labfiles.PACKAGES}",
            *[f"--dpkgopt=path-exclude={path}" for path in labfiles.LEFT_OUT],
            '--aptopt=APT::Install-Recommends "false"', '--aptopt=Acquire::Languages "none"',
            f"--essential-hook=sync-in {early} /", release, str(part), *sources,
        ]
    )  # fmt: skip
    shutil.rmtree(early)
    _write(part, labfiles.FILES)
    units = part / "etc/systemd/system"
    for folder, names in ((units, labfiles.MASKED), (part / "etc/systemd/system-generators", labfiles.NO_GENERATORS)):
        folder.mkdir(parents=True, exist_ok=True)
        for name in names:
            (folder / name).unlink(missing_ok=True)
            (folder / name).symlink_to("/dev/null")
    (units / labfiles.NETWORK[0]).mkdir(parents=True, exist_ok=True)
    (units / labfiles.NETWORK[0] / labfiles.NETWORK[1]).symlink_to(f"/lib/systemd/system/{labfiles.NETWORK[1]}")
    for key in part.glob("etc/ssh/ssh_host_*"):
        key.unlink()
    (part / "boot/efi").mkdir(exist_ok=True)
    part.rename(tree)


def _write(root: Path, files: dict[str, str]) -> None:
    for name, text in files.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)
        (root / name).chmod(0o755 if text.startswith("#!") else 0o644)


def _make_disk(path: Path, tree: Path, root: str) -> None:
    path.unlink(missing_ok=True)
    with path.open("wb") as file:
        file.truncate(DISK_MIB * MIB)
    script = (
        "label: gpt\nfirst-lba: 2048\n"
        f"size={_BOOT_MIB}MiB, type=U, attrs=LegacyBIOSBootable, name=boot\n"
        "type=4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709, name=root\n"
    )
    _run([tool("sfdisk"), "-q", str(path)], input=script)
    boot, system = partitions(path)
    (tree / "etc/fstab").write_text(labfiles.FSTAB.format(root=root, options=labfiles.OPTIONS[root]))
    with tempfile.TemporaryDirectory(dir=path.parent) as folder:
        loader = Path(folder) / "boot"
        _make_boot(loader, boot.size, tree, Path(folder))
        _put(path, boot.start, loader)
        if root == "ext4":
            offset = f"offset={system.start}"
            command = [tool("mke2fs"), "-q", "-F", "-t", "ext4", "-L", "lab-root", "-d", str(tree), "-E", offset]
            _run([*command, str(path), f"{system.size // 1024}k"])
        else:
            part = Path(folder) / "root"
            with part.open("wb") as file:
                file.truncate(system.size)
            _run([tool("mkfs.btrfs"), "-q", "-f", "-L", "lab-root", "--rootdir", str(tree), str(part)])
            _put(path, system.start, part)
    code = Path("/usr/lib/syslinux/mbr/gptmbr.bin").read_bytes()
    with path.open("r+b") as file:
        file.write(code[:440])


def _make_boot(image: Path, size: int, tree: Path, folder: Path) -> None:
    with image.open("wb") as file:
        file.truncate(size)
    (folder / "syslinux.cfg").write_text(labfiles.SYSLINUX_CFG)
    kernel = max((tree / "boot").glob("vmlinuz-*"))
    initrd = max((tree / "boot").glob("initrd.img-*"))
    _run([tool("mkfs.vfat"), "-n", "LABBOOT", str(image)])
    _run([tool("mmd"), "-i", str(image), "::/syslinux"])
    for source, target in ((kernel, "vmlinuz"), (initrd, "initrd"), (folder / "syslinux.cfg", "syslinux/syslinux.cfg")):
        _run([tool("mcopy"), "-i", str(image), str(source), f"::/{target}"])
    _run([tool("syslinux"), "--install", "--directory", "/syslinux", str(image)])


def _put(disk: Path, offset: int, part: Path) -> None:
    _run([tool("dd"), f"if={part}", f"of={disk}", "bs=1M", f"seek={offset // MIB}", "conv=notrunc,sparse"])
