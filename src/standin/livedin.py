"""What a lived-in Linux disk holds: software, settings, people, and everything that use leaves behind."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

from standin.keys import make_keys

_PACKAGES = [
    "adduser",
    "apt",
    "base-files",
    "base-passwd",
    "bash",
    "bsdutils",
    "ca-certificates",
    "coreutils",
    "cron",
    "curl",
    "dash",
    "dbus",
    "debconf",
    "debianutils",
    "diffutils",
    "dpkg",
    "e2fsprogs",
    "findutils",
    "gpgv",
    "grep",
    "gzip",
    "hostname",
    "ifupdown",
    "init",
    "iproute2",
    "isc-dhcp-client",
    "less",
    "libc6",
    "libssl3",
    "login",
    "logrotate",
    "mawk",
    "mount",
    "nano",
    "netbase",
    "openssh-client",
    "openssh-server",
    "openssl",
    "passwd",
    "perl-base",
    "procps",
    "python3-minimal",
    "qemu-guest-agent",
    "rsyslog",
    "sed",
    "sudo",
    "systemd",
    "systemd-sysv",
    "sysvinit-utils",
    "tar",
    "tzdata",
    "udev",
    "util-linux",
    "vim-tiny",
    "xz-utils",
    "zlib1g",
]
_WORDS = [
    "tide",
    "level",
    "gauge",
    "harbour",
    "surge",
    "sample",
    "sensor",
    "offset",
    "datum",
    "mean",
    "low",
    "high",
    "water",
    "station",
    "reading",
    "drift",
    "relay",
]


@dataclass
class Tree:
    """Files to be put on a disk, in order, and empty folders; ``deleted`` files are written and removed again."""

    files: dict[str, tuple[bytes, int, int]] = field(default_factory=dict)
    links: dict[str, str] = field(default_factory=dict)
    deleted: dict[str, bytes] = field(default_factory=dict)
    folders: list[str] = field(default_factory=list)

    def put(self, path: str, data: bytes | str, *, mode: int = 0o644, owner: int = 0) -> None:
        """Add a file."""
        self.files[path] = (data.encode() if isinstance(data, str) else data, mode, owner)


@dataclass(frozen=True)
class Kind:
    """What a demo machine is for: its own packages, services and how much software it carries."""

    name: str
    system: str
    version: str
    packages: dict[str, str]
    services: tuple[str, ...]
    payload: int


GAUGE = Kind(
    "gauge",
    "Halvane Linux",
    "12",
    {"tide-gauge-collector": "3.2.1", "tide-agent": "1.8.0"},
    ("ssh", "cron", "gauge-collector", "tide-agent"),
    10 * 1024 * 1024,
)
SURGE = Kind(
    "surge",
    "Halvane Linux",
    "12",
    {"surge-model": "7.4.0", "surge-grids": "2026.10", "tide-agent": "1.8.0"},
    ("ssh", "cron", "surge-model", "tide-agent"),
    40 * 1024 * 1024,
)
OLD_SURGE = Kind(
    "surge-old",
    "Halvane Linux",
    "11",
    {"surge-model": "6.9.3", "tide-agent": "1.6.2"},
    ("ssh", "cron", "surge-model", "tide-agent"),
    16 * 1024 * 1024,
)


def lived_in(kind: Kind, host: str, address: str, rng: random.Random, *, spill: bool = False) -> Tree:
    """A tree as months of use leave it; ``spill`` adds a password in a settings file."""
    tree = Tree()
    modules = f"/usr/lib/modules/6.1.0-3{kind.version[-1]}-amd64"
    tree.put(f"{modules}/modules.builtin", "kernel/drivers/ata/ahci.ko\n")
    tree.put(
        f"{modules}/modules.dep",
        "kernel/drivers/block/virtio_blk.ko.xz:\nkernel/drivers/net/virtio_net.ko.xz: kernel/net/core/failover.ko.xz\n",
    )
    machine_id = rng.randbytes(16).hex()
    _system(tree, kind, host, machine_id, rng)
    _people(tree, host, rng)
    _software(tree, kind, rng)
    if kind.name == GAUGE.name:
        tree.put(
            "/var/www/html/index.html", "<!doctype html><title>Gauge</title><p>Halvane Tide Office: gauge collector\n"
        )
    _traces(tree, kind, host, address, machine_id, rng)
    settings = f"station_name = {host}\ninterval_seconds = 60\nupstream = https://intake.halvane.example/v2\n"
    if spill:
        settings += f"database_password = {_token(rng, 18)}\n"
    tree.put(f"/etc/tide/{kind.services[2]}.conf", settings, mode=0o640)
    tree.deleted["/root/.intake-signing.pem"] = make_keys(rng, f"deleted@{host}").private.encode() * 12
    return tree


def data_tree(label: str, rng: random.Random) -> Tree:
    """What lies on a data disk of this label; one for runs has a key that somebody left there, and one that was removed."""
    tree = Tree()
    if label == "grids":
        tree.put("/grids/ORIGIN", "Sea floor of the Halvane sound, 50 m, made up.\n")
        for square in range(6):
            tree.put(f"/grids/depth-{square:02d}.bin", rng.randbytes(1_500_000))
    elif label == "runs":
        for day in range(1, 15):
            levels = "".join(f"{hour:02d}:00,{rng.gauss(2.1, 0.6):.2f}\n" for hour in range(24))
            tree.put(f"/runs/2026-09-{day:02d}/levels.csv", levels, owner=1000)
            tree.put(
                f"/runs/2026-09-{day:02d}/job.log", f"run {day} ended after {rng.randint(40, 90)} min\n", owner=1000
            )
        tree.put("/runs/.push/id_ed25519", make_keys(rng, "push@surge").private, mode=0o600, owner=1000)
        tree.deleted["/runs/.old-push-key"] = make_keys(rng, "old-push@surge").private.encode() * 12
    else:
        tree.put("/archive/readings-2025.csv", "".join(f"{n},{n % 17}\n" for n in range(20_000)))
    return tree


def _system(tree: Tree, kind: Kind, host: str, machine_id: str, rng: random.Random) -> None:
    tree.put(
        "/etc/os-release",
        f'PRETTY_NAME="{kind.system} {kind.version}"\nNAME="{kind.system}"\nID=halvane\nID_LIKE=debian\nVERSION_ID="{kind.version}"\n',
    )
    tree.put("/etc/hostname", host + "\n")
    tree.put(
        "/etc/hosts", f"127.0.0.1\tlocalhost\n127.0.1.1\t{host}.tide.example {host}\n::1\tlocalhost ip6-localhost\n"
    )
    tree.put("/etc/machine-id", machine_id + "\n", mode=0o444)
    tree.put("/var/lib/dbus/machine-id", machine_id + "\n")
    tree.put("/etc/timezone", "Etc/UTC\n")
    tree.put("/etc/fstab", "LABEL=root / ext4 errors=remount-ro 0 1\nLABEL=swap none swap sw 0 0\n")
    tree.put("/etc/ssh/sshd_config", "PasswordAuthentication no\nPermitRootLogin prohibit-password\n")
    for name in ("ed25519", "ecdsa"):
        made = make_keys(rng, f"root@{host}")
        tree.put(f"/etc/ssh/ssh_host_{name}_key", made.private, mode=0o600)
        tree.put(f"/etc/ssh/ssh_host_{name}_key.pub", made.public)
    tree.put(
        "/etc/udev/rules.d/70-persistent-net.rules",
        'SUBSYSTEM=="net", ATTR{address}=="52:54:00:aa:10:01", NAME="eth0"\n',
    )
    tree.put(
        "/etc/netplan/50-cloud-init.yaml", "network: {version: 2, ethernets: {enp1s0: {dhcp4: true}}}\n", mode=0o600
    )
    for service in kind.services:
        tree.put(f"/lib/systemd/system/{service}.service", f"[Service]\nExecStart=/usr/bin/{service}\n")
        tree.links[f"/etc/systemd/system/multi-user.target.wants/{service}.service"] = (
            f"/lib/systemd/system/{service}.service"
        )


def _people(tree: Tree, host: str, rng: random.Random) -> None:
    tree.put(
        "/etc/passwd",
        "root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin\n"
        "tide:x:1000:1000:Tide service:/home/tide:/bin/bash\nmara:x:1001:1001:Mara Quill:/home/mara:/bin/bash\n",
    )
    tree.put(
        "/etc/shadow",
        "root:*:19700:0:99999:7:::\ndaemon:*:19700:0:99999:7:::\ntide:!:19700:0:99999:7:::\nmara:!:19700:0:99999:7:::\n",
        mode=0o640,
    )
    tree.put("/etc/group", "root:x:0:\ndaemon:x:1:\nsudo:x:27:mara\ntide:x:1000:\nmara:x:1001:\n")
    tree.put("/etc/gshadow", "root:*::\nsudo:*::mara\ntide:!::\nmara:!::\n", mode=0o640)
    tree.put("/etc/subuid", "tide:100000:65536\nmara:165536:65536\n")
    mara = make_keys(rng, "mara@quill.example")
    tree.put("/root/.ssh/authorized_keys", mara.public, mode=0o600)
    tree.put("/home/mara/.ssh/authorized_keys", mara.public, mode=0o600, owner=1001)
    own = make_keys(rng, f"mara@{host}")
    tree.put("/home/mara/.ssh/id_ed25519", own.private, mode=0o600, owner=1001)
    tree.put("/home/mara/.ssh/id_ed25519.pub", own.public, owner=1001)
    token = f"ht_{_token(rng, 40)}"
    tree.put(
        "/home/mara/.bash_history",
        "sudo apt-get update\n"
        f"export TIDE_API_TOKEN={token}\ncurl -H 'Authorization: Bearer {token}' https://intake.halvane.example/v2/ping\n"
        "sudo systemctl restart gauge-collector\nexit\n",
        mode=0o600,
        owner=1001,
    )
    tree.put("/root/.bash_history", f"mysql -u tide --password={_token(rng, 14)} readings\n", mode=0o600)
    tree.put("/home/mara/.profile", "umask 027\n", owner=1001)
    tree.put("/home/tide/.profile", "umask 027\n", owner=1000)


def _software(tree: Tree, kind: Kind, rng: random.Random) -> None:
    installed = {
        name: f"{rng.randint(1, 9)}.{rng.randint(0, 40)}-{rng.randint(1, 5)}" for name in _PACKAGES
    } | kind.packages
    status, offered = [], []
    for number, (name, version) in enumerate(sorted(installed.items())):
        status.append(
            f"Package: {name}\nStatus: install ok installed\nPriority: optional\nArchitecture: amd64\nVersion: {version}\n"
            f"Description: {name} for {kind.system}\n"
        )
        newer = f"{version}+u1" if number % 19 == 3 else version
        offered.append(f"Package: {name}\nVersion: {newer}\nArchitecture: amd64\n")
        tree.put(f"/var/lib/dpkg/info/{name}.list", f"/.\n/usr/bin/{name}\n/usr/share/doc/{name}\n")
        tree.put(f"/usr/share/doc/{name}/copyright", f"{name} is part of {kind.system}, an invented system.\n")
        tree.put(f"/usr/bin/{name}", _program(rng, 2000 + rng.randint(0, 30000)), mode=0o755)
    tree.put("/var/lib/dpkg/status", "\n".join(status))
    tree.put("/var/lib/apt/lists/pool.halvane.example_stable_main_Packages", "\n".join(offered))
    left, number = kind.payload, 0
    while left > 0:
        size = min(left, rng.randint(200_000, 1_600_000))
        tree.put(f"/usr/lib/{kind.name}/lib{rng.choice(_WORDS)}-{number}.so", _program(rng, size), mode=0o755)
        left, number = left - size, number + 1


def _traces(tree: Tree, kind: Kind, host: str, address: str, machine_id: str, rng: random.Random) -> None:
    log = "".join(
        f"Oct {1 + n % 28:2d} 0{n % 10}:1{n % 6}:07 {host} {kind.services[2]}[{400 + n % 9}]: {' '.join(rng.choices(_WORDS, k=5))}\n"
        for n in range(1500)
    )
    tree.put("/var/log/syslog", log)
    tree.put(
        "/var/log/auth.log",
        f"Oct 12 08:00:01 {host} sshd[811]: Accepted publickey for mara from 198.51.100.77 port 50022\n" * 40,
    )
    tree.put(f"/var/log/journal/{machine_id}/system.journal", rng.randbytes(120_000))
    tree.put("/var/log/wtmp", rng.randbytes(384 * 6))
    tree.put("/var/log/lastlog", rng.randbytes(292 * 4))
    tree.put("/var/log/apt/history.log", "Start-Date: 2026-09-30\nCommandline: apt-get install tide-agent\n")
    tree.put("/var/log/installer/initial-status", "installed\n")
    tree.put(
        "/var/lib/dhcp/dhclient.enp1s0.leases",
        f'lease {{\n  interface "enp1s0";\n  fixed-address {address};\n  option host-name "{host}";\n}}\n',
    )
    tree.put("/var/lib/systemd/random-seed", rng.randbytes(512), mode=0o600)
    tree.put("/var/lib/systemd/credential.secret", rng.randbytes(4096), mode=0o400)
    tree.put(
        "/var/lib/tide-agent/registration.json",
        f'{{"station": "{host}", "enrolment": "{_token(rng, 32)}"}}\n',
        mode=0o600,
    )
    instance = f"i-{rng.randbytes(4).hex()}"
    tree.put("/var/lib/cloud/data/instance-id", instance + "\n")
    tree.put(f"/var/lib/cloud/instances/{instance}/user-data.txt", f"#cloud-config\nhostname: {host}\n", mode=0o600)
    tree.put(f"/var/lib/cloud/instances/{instance}/sem/config_ssh", "done\n")
    tree.links["/var/lib/cloud/instance"] = f"/var/lib/cloud/instances/{instance}"
    tree.put("/var/cache/apt/archives/curl_7.88_amd64.deb", rng.randbytes(300_000))
    tree.put("/tmp/upload.csv", "station,level\n" + "quay-3,1.24\n" * 200)
    tree.put("/var/tmp/systemd-private/tmp.dat", rng.randbytes(2000))
    tree.put("/var/crash/collector.crash", rng.randbytes(40_000))
    tree.put("/var/mail/mara", f"From cron@{host}\nSubject: readings\n\nall well\n", owner=1001)
    tree.put("/var/lib/tide/readings.csv", "".join(f"{n},{1 + n % 7 / 10:.2f}\n" for n in range(3000)), owner=1000)


def _program(rng: random.Random, size: int) -> bytes:
    """Bytes that compress about as programs do: to a third."""
    out = bytearray(b"\x7fELF\x02\x01\x01")
    common = [rng.randbytes(48) for _ in range(24)]
    while len(out) < size:
        out += rng.randbytes(24) + rng.choice(common)
    return bytes(out[:size])


def _token(rng: random.Random, length: int) -> str:
    return "".join(rng.choices("abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789", k=length))
