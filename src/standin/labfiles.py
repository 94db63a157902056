"""What the lab guest is made of: its packages, the files that are added to them, and the units that are left out.

A boot is slow under emulation, so what nobody looks at is left out: devices and modules that a virtual machine has none
of, hardening of the kernel, messages that nobody reads.
"""

from __future__ import annotations

from pathlib import Path

PACKAGES = (
    "systemd,systemd-sysv,udev,dbus,kmod,iproute2,procps,netbase,ca-certificates,cloud-init,qemu-guest-agent,"
    "openssh-server,lighttpd,cloud-guest-utils,fdisk,linux-image-cloud-amd64,initramfs-tools,zstd,btrfs-progs"
)
# Btrfs's own scripts would load it in an initrd that boots ext4 too, and udev there would look at every device once more.
LEFT_OUT = (
    "/usr/share/doc/*", "/usr/share/man/*", "/usr/share/locale/*", "/usr/share/info/*",
    "/usr/share/initramfs-tools/*/btrfs", "/usr/share/initramfs-tools/*/udev",
)  # fmt: skip
_SYSLINUX = """\
DEFAULT lab
PROMPT 0
TIMEOUT 0
LABEL lab
 LINUX /vmlinuz
 INITRD /initrd
 APPEND root=LABEL=lab-root ro console=ttyS0 random.trust_cpu=on net.ifnames=0 noresume quiet {unhardened}
"""
# Checks that cost an emulated processor time in every system call and allocation.
_UNHARDENED = (
    "mitigations=off init_on_alloc=0 hardened_usercopy=off randomize_kstack_offset=off lsm=yama audit=0 "
    "nowatchdog tsc=reliable transparent_hugepage=never"
)
SYSLINUX_CFG = _SYSLINUX.format(unhardened=_UNHARDENED)
# What a guest of a simulated cloud needs of cloud-init: less to load, and one kind of host key, under emulation.
_CLOUD_CFG = """\
datasource_list: [NoCloud]
ssh_genkeytypes: [ed25519]
cloud_init_modules: [seed_random, bootcmd, growpart, resizefs, write-files, set_hostname, update_hostname, update_etc_hosts, users-groups, ssh]
cloud_config_modules: [timezone, runcmd]
cloud_final_modules: [scripts-user, final-message]
"""
FSTAB = "LABEL=lab-root / {root} {options} 0 1\nLABEL=LABBOOT /boot/efi vfat umask=0077 0 2\n"
OPTIONS = {"ext4": "errors=remount-ro,discard", "btrfs": "defaults"}
# cloud-init's stages by a process that has loaded it; by Debian's own command where there is none.
_STAGES = "/usr/local/lib/lab-stages"
STAGES_PY = Path(__file__).with_name("labstages.py")
_ASK = """\
#!/bin/bash
serves() { [ -d "/proc/$(</run/lab-stages/server)" ]; } 2>/dev/null
cd /run/lab-stages && [ -p asked ] && serves || exec /usr/bin/cloud-init "$@"
exec 3<>ended
echo "$*" >asked
until read -r -t 5 code <&3; do serves || exec /usr/bin/cloud-init "$@"; done
exit "$code"
"""
# Debian's own looks for every kind of data source; here it is known that there is one.
_GENERATOR = """\
#!/bin/sh
mkdir -p /run/cloud-init "$2/multi-user.target.wants"
: >/run/cloud-init/enabled
ln -s /lib/systemd/system/cloud-init.target "$2/multi-user.target.wants/"
"""
# Without the hundreds of devices that no rule says anything about.
_TRIGGER = """\
[Service]
ExecStart=
ExecStart=-udevadm trigger --action=add --subsystem-match=virtio --subsystem-match=virtio-ports \\
 --subsystem-match=block --subsystem-match=net --subsystem-match=input
ExecStart=-udevadm trigger --action=add --sysname-match=ttyS0
"""
_MANAGER = """\
[Manager]
LogLevel=notice
DefaultCPUAccounting=no
DefaultIOAccounting=no
DefaultMemoryAccounting=no
DefaultTasksAccounting=no
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
FILES = {
    "etc/cloud/cloud.cfg.d/10-lab.cfg": _CLOUD_CFG,
    "etc/lighttpd/lighttpd.conf": _WEB,
    "var/www/html/index.html": _PAGE,
    "etc/tide/gauge-collector.conf": "station = lab\ninterval = 60\n",
    "etc/hostname": "lab-template\n",
    "etc/machine-id": "",
    "etc/systemd/system-generators/cloud-init-generator": _GENERATOR,
    "etc/systemd/system/systemd-udev-trigger.service.d/lab.conf": _TRIGGER,
    "etc/systemd/system.conf.d/lab.conf": _MANAGER,
    f"{_STAGES[1:]}/stages.py": STAGES_PY.read_text(),
    f"{_STAGES[1:]}/ask": _ASK,
    **{
        f"etc/systemd/system/{unit}.service.d/lab.conf": f"[Service]\nExecStart=\nExecStart={command}\n"
        for unit, command in _UNITS.items()
    },
}
# What must be there before the kernel's package makes its initrd: a small one, whatever the root file system.
EARLY_FILES = {
    "etc/initramfs-tools/conf.d/lab": "MODULES=list\nCOMPRESS=zstd\n",
    "etc/initramfs-tools/modules": "virtio_pci\nvirtio_blk\n",
    "etc/initramfs-tools/hooks/lab": """\
#!/bin/sh
[ "$1" = prereqs ] && exit 0
. /usr/share/initramfs-tools/hook-functions
manual_add_modules ext4 btrfs
copy_exec /sbin/blkid
""",
    # As udev's own does, which is left out.
    "etc/initramfs-tools/scripts/init-bottom/lab": """\
#!/bin/sh
[ "$1" = prereqs ] || mount -n -o move /dev "$rootmnt/dev"
""",
}
MASKED = (
    "e2scrub_reap.service", "e2scrub_all.timer", "apt-daily.timer", "apt-daily-upgrade.timer", "dpkg-db-backup.timer",
    "fstrim.timer", "systemd-binfmt.service", "sys-kernel-debug.mount", "sys-kernel-tracing.mount",
    "dev-hugepages.mount", "dev-mqueue.mount", "systemd-timesyncd.service", "systemd-pstore.service",
    # For screens, containers and what a virtual machine has none of; each takes seconds under emulation.
    "modprobe@configfs.service", "modprobe@drm.service", "modprobe@efi_pstore.service", "modprobe@fuse.service",
    "modprobe@loop.service", "modprobe@dm_mod.service", "sys-kernel-config.mount", "sys-fs-fuse-connections.mount",
    "kmod-static-nodes.service", "systemd-modules-load.service", "systemd-update-utmp.service",
    "systemd-update-utmp-runlevel.service", "getty@tty1.service", "systemd-sysusers.service",
    "systemd-ask-password-console.path", "systemd-ask-password-wall.path", "proc-sys-fs-binfmt_misc.automount",
    "systemd-initctl.socket", "cloud-init-hotplugd.socket",
)  # fmt: skip
NO_GENERATORS = tuple(
    f"systemd-{what}-generator"
    for what in ("cryptsetup", "debug", "gpt-auto", "hibernate-resume", "integritysetup", "rc-local", "run",
                 "system-update", "sysv", "veritysetup")
)  # fmt: skip
NETWORK = ("multi-user.target.wants", "systemd-networkd.service")
