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

from standin.disks import partitions, tool

MIB = 1024 * 1024
ROOTS = ("ext4", "btrfs")
DISK_MIB = 2048
_BOOT_MIB = 64
_PACKAGES = (
    "systemd,systemd-sysv,udev,dbus,kmod,iproute2,procps,netbase,ca-certificates,cloud-init,qemu-guest-agent,"
    "openssh-server,lighttpd,cloud-guest-utils,fdisk,linux-image-cloud-amd64,initramfs-tools,zstd,btrfs-progs"
)
# Btrfs's own scripts would load it in an initrd that boots ext4 too.
_LEFT_OUT = (
    "/usr/share/doc/*", "/usr/share/man/*", "/usr/share/locale/*", "/usr/share/info/*",
    "/usr/share/initramfs-tools/*/btrfs",
)  # fmt: skip
_SYSLINUX_CFG = """\
DEFAULT lab
PROMPT 0
TIMEOUT 0
LABEL lab
 LINUX /vmlinuz
 INITRD /initrd
 APPEND root=LABEL=lab-root ro console=ttyS0 mitigations=off random.trust_cpu=on net.ifnames=0 noresume quiet
"""
# What a guest of a simulated cloud needs of cloud-init: less to load, and one kind of host key, under emulation.
_CLOUD_CFG = """\
datasource_list: [NoCloud]
ssh_genkeytypes: [ed25519]
cloud_init_modules: [seed_random, bootcmd, growpart, resizefs, write-files, set_hostname, update_hostname, update_etc_hosts, users-groups, ssh]
cloud_config_modules: [timezone, runcmd]
cloud_final_modules: [scripts-user, final-message]
"""
_FSTAB = "LABEL=lab-root / {root} {options} 0 1\nLABEL=LABBOOT /boot/efi vfat umask=0077 0 2\n"
_OPTIONS = {"ext4": "errors=remount-ro,discard", "btrfs": "defaults"}
# cloud-init's stages by a process that has loaded it; by Debian's own command where there is none.
_STAGES = "/usr/local/lib/lab-stages"
_STAGES_PY = Path(__file__).with_name("labstages.py")
_ASK = """\
#!/bin/bash
cd /run/lab-stages && [ -p asked ] || exec /usr/bin/cloud-init "$@"
echo "$*" >asked && read -r code <ended && exit "$code"
"""
_UNITS = {
    "cloud-init-local": f"/usr/bin/python3 {_STAGES}/stages.py",
    "cloud-init": f"{_STAGES}/ask init",
    "cloud-config": f"{_STAGES}/ask modules --mode=config",
    "cloud-final": f"{_STAGES}/ask modules --mode=final",
}
# The package's own starts Perl six times to learn what is said here.
_WEB = """\
server.document-root = "/var/www/html"
server.port = 80
server.username = "www-data"
server.groupname = "www-data"
server.pid-file = "/run/lighttpd.pid"
server.errorlog = "/var/log/lighttpd/error.log"
index-file.names = ("index.html")
mimetype.assign = (".html" => "text/html; charset=utf-8")
$SERVER["socket"] == "[::]:80" { }
"""
_PAGE = "<!doctype html><title>Gauge collector</title><p>Halvane Tide Office: gauge collector 2.3.1\n"
_FILES = {
    "etc/cloud/cloud.cfg.d/10-lab.cfg": _CLOUD_CFG,
    "etc/lighttpd/lighttpd.conf": _WEB,
    "var/www/html/index.html": _PAGE,
    "etc/tide/gauge-collector.conf": "station = lab\ninterval = 60\n",
    "etc/hostname": "lab-template\n",
    "etc/machine-id": "",
    f"{_STAGES[1:]}/stages.py": _STAGES_PY.read_text(),
    f"{_STAGES[1:]}/ask": _ASK,
    **{
        f"etc/systemd/system/{unit}.service.d/lab.conf": f"[Service]\nExecStart=\nExecStart={command}\n"
        for unit, command in _UNITS.items()
    },
}
# What must be there before the kernel's package makes its initrd: a small one, whatever the root file system.
_EARLY_FILES = {
    "etc/initramfs-tools/conf.d/lab": "MODULES=list\nCOMPRESS=zstd\n",
    "etc/initramfs-tools/modules": "virtio_pci\nvirtio_blk\n",
    "etc/initramfs-tools/hooks/lab": """\
#!/bin/sh
[ "$1" = prereqs ] && exit 0
. /usr/share/initramfs-tools/hook-functions
manual_add_modules ext4 btrfs
""",
}
_MASKED = (
    "e2scrub_reap.service", "e2scrub_all.timer", "apt-daily.timer", "apt-daily-upgrade.timer", "dpkg-db-backup.timer",
    "fstrim.timer", "systemd-binfmt.service", "sys-kernel-debug.mount", "sys-kernel-tracing.mount",
    "dev-hugepages.mount", "dev-mqueue.mount", "systemd-timesyncd.service", "systemd-pstore.service",
    # For screens, containers and what a virtual machine has none of; each takes seconds under emulation.
    "modprobe@configfs.service", "modprobe@drm.service", "modprobe@efi_pstore.service", "modprobe@fuse.service",
    "modprobe@loop.service", "modprobe@dm_mod.service", "sys-kernel-config.mount", "sys-fs-fuse-connections.mount",
    "kmod-static-nodes.service", "systemd-modules-load.service", "systemd-update-utmp.service",
    "systemd-update-utmp-runlevel.service", "getty@tty1.service",
)  # fmt: skip
_NO_GENERATORS = tuple(
    f"systemd-{what}-generator"
    for what in ("cryptsetup", "debug", "gpt-auto", "hibernate-resume", "integritysetup", "rc-local", "run",
                 "system-update", "sysv", "veritysetup")
)  # fmt: skip
_NETWORK = ("multi-user.target.wants", "systemd-networkd.service")


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
    made_by = Path(__file__).read_bytes() + _STAGES_PY.read_bytes()
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
    _write(early, _EARLY_FILES)
    _run(
        [
            tool("mmdebstrap"), "--quiet", "--variant=minbase", "--mode=root", f"--include={_PACKAGES}",
            *[f"--dpkgopt=path-exclude={path}" for path in _LEFT_OUT],
            '--aptopt=APT::Install-Recommends "false"', '--aptopt=Acquire::Languages "none"',
            f"--essential-hook=sync-in {early} /", release, str(part), *sources,
        ]
    )  # fmt: skip
    shutil.rmtree(early)
    _write(part, _FILES)
    units = part / "etc/systemd/system"
    for folder, names in ((units, _MASKED), (part / "etc/systemd/system-generators", _NO_GENERATORS)):
        folder.mkdir(parents=True, exist_ok=True)
        for name in names:
            (folder / name).unlink(missing_ok=True)
            (folder / name).symlink_to("/dev/null")
    (units / _NETWORK[0]).mkdir(parents=True, exist_ok=True)
    (units / _NETWORK[0] / _NETWORK[1]).symlink_to(f"/lib/systemd/system/{_NETWORK[1]}")
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
    (tree / "etc/fstab").write_text(_FSTAB.format(root=root, options=_OPTIONS[root]))
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
    (folder / "syslinux.cfg").write_text(_SYSLINUX_CFG)
    kernel = max((tree / "boot").glob("vmlinuz-*"))
    initrd = max((tree / "boot").glob("initrd.img-*"))
    _run([tool("mkfs.vfat"), "-n", "LABBOOT", str(image)])
    _run([tool("mmd"), "-i", str(image), "::/syslinux"])
    for source, target in ((kernel, "vmlinuz"), (initrd, "initrd"), (folder / "syslinux.cfg", "syslinux/syslinux.cfg")):
        _run([tool("mcopy"), "-i", str(image), str(source), f"::/{target}"])
    _run([tool("syslinux"), "--install", "--directory", "/syslinux", str(image)])


def _put(disk: Path, offset: int, part: Path) -> None:
    _run([tool("dd"), f"if={part}", f"of={disk}", "bs=1M", f"seek={offset // MIB}", "conv=notrunc,sparse"])
