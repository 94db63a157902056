"""The rules of the residue scan, as data."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from bathotype.core.expressions import escaped_bytes, for_bytes
from bathotype.core.guest.patterns import matcher


@dataclass(frozen=True)
class PathRule:
    """Something that should not be there at all; ``condition`` looks at its content."""

    id: str
    severity: str
    patterns: tuple[str, ...]
    advice: str
    condition: Callable[[bytes], bool] = bool


@dataclass(frozen=True)
class ContentRule:
    """Something recognised by its shape.

    ``hints`` are literals of which a match holds one: a quick look first.  ``reach`` is how many bytes before and
    behind the hint's first a match may extend.
    """

    id: str
    severity: str
    expression: Any
    advice: str
    hints: tuple[bytes, ...]
    reach: tuple[int, int] = (64, 4096)


IDENTITY_RULES = frozenset(
    {
        "machine-id",
        "ssh-host-key",
        "source-machine-id",
        "source-host-key",
        "source-host-name",
        "source-address",
        "dhcp-lease",
        "random-seed",
        "first-boot-state",
    }
)

PATH_RULES = (
    PathRule(
        "machine-id",
        "high",
        ("/etc/machine-id", "/var/lib/dbus/machine-id"),
        "Empty it: add an `empty` step for it to the profile.",
        lambda data: for_bytes(rb"\s*[0-9a-f]{32}").match(data) is not None,
    ),
    PathRule(
        "ssh-host-key", "high", ("/{etc,ProgramData}/ssh/ssh_host_*_key",), "Remove it: first boot makes a new one."
    ),
    PathRule("dhcp-lease", "medium", ("/var/lib/dhcp/*.leases", "/var/lib/NetworkManager/*.lease"), "Remove it."),
    PathRule("random-seed", "medium", ("/var/lib/systemd/random-seed",), "Remove it."),
    PathRule(
        "first-boot-state",
        "medium",
        ("/var/lib/cloud/instances/*/user-data.txt", "/var/lib/cloud/data/instance-id"),
        "Remove /var/lib/cloud, or first boot will not run on instances.",
    ),
    PathRule(
        "history",
        "medium",
        ("/{root,home/*}/.*_history", "/Users/*/AppData/**/ConsoleHost_history.txt"),
        "Remove it: histories often hold credentials.",
    ),
    PathRule(
        "authorized-keys",
        "medium",
        ("/{root,home/*,Users/*}/.ssh/authorized_keys*", "/ProgramData/ssh/administrators_authorized_keys"),
        "Remove it, or accept it if these people may reach every instance.",
        lambda data: for_bytes(rb"(?m)^[ \t]*(?:[^#\s]\S*)?(?:ssh-|ecdsa-|sk-)").search(data) is not None,
    ),
    PathRule(
        "password-hash",
        "medium",
        ("/etc/shadow", "/etc/shadow-"),
        "Lock the password, or accept it if every instance may have it.",
        lambda data: for_bytes(rb"(?m)^[^:\n]+:\$[0-9a-z]+\$").search(data) is not None,
    ),
    PathRule(
        "stored-password",
        "high",
        (
            "/{root,home/*,Users/*}/.{netrc,pgpass,git-credentials}",
            "/Users/*/_netrc",
            "/{root,home/*}/.my.cnf",
            "/{root,home/*}/.mylogin.cnf",
            "/{root,home/*}/.config/git/credentials",
        ),
        "Remove it, and change the password.",
        lambda data: for_bytes(rb"(?m)^[ \t]*[^#\s]").search(data) is not None,
    ),
    PathRule(
        "keytab",
        "high",
        ("/**.keytab",),
        "Remove it: each instance joins by itself.",
        lambda data: data.startswith(b"\x05\x02"),
    ),
    PathRule("login-record", "low", ("/var/log/{wtmp,btmp,lastlog}",), "Empty it."),
    PathRule("log", "low", ("/var/log/**",), "Remove it."),
)

_B64 = rb"[A-Za-z0-9+/=]"
CONTENT_RULES: tuple[ContentRule, ...] = (
    ContentRule(
        "private-key",
        "high",
        for_bytes(
            rb"-----BEGIN (?:RSA |EC |DSA |ENCRYPTED |OPENSSH |PGP )?PRIVATE KEY(?: BLOCK)?-----(?:\\[rn]|\s)+"
            rb"(?:[A-Za-z-]+:[^\n]*\s+)*" + _B64 + rb"{32}"
        ),
        "Remove the key and make the service create or fetch its own.",
        (b"PRIVATE KEY",),
    ),
    ContentRule(
        "private-key-putty",
        "high",
        for_bytes(rb"PuTTY-User-Key-File-[23]: [\w-]+"),
        "Remove the key.",
        (b"PuTTY-User-Key",),
    ),
    ContentRule(
        "token-jwt",
        "high",
        for_bytes(rb"\beyJ[A-Za-z0-9_-]{8,}\.eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}"),
        "Remove the token and revoke it.",
        (b"eyJ",),
        (64, 16384),
    ),
    ContentRule(
        "token-shape",
        "high",
        for_bytes(
            rb"\b(?:AKIA[0-9A-Z]{16}|ASIA[0-9A-Z]{16}|gh[pousr]_[A-Za-z0-9]{36,}|github_pat_\w{40,}|glpat-[\w-]{20,}"
            rb"|xox[abprs]-[\w-]{10,}|sk_live_[A-Za-z0-9]{16,}|AIza[\w-]{35}|npm_[A-Za-z0-9]{36}|pypi-[\w-]{50,}"
            rb"|dop_v1_[0-9a-f]{64}|bt_[A-Za-z0-9_-]{40,}|rk_live_[A-Za-z0-9]{16,}|SG\.[\w-]{16,}\.[\w-]{32,}|hvs\.[\w-]{24,}"
            rb"|SWMTKN-1-[0-9a-z]{40,}-[0-9a-z]{20,}|AGE-SECRET-KEY-1[0-9A-Z]{58}|xapp-[\w-]{20,}|ya29\.[\w-]{30,}"
            rb"|shpat_[0-9a-f]{32}|[0-9]{8,10}:AA[\w-]{33}|glptt-[\w-]{20,}|dckr_pat_[\w-]{20,}|tskey-[a-z]{2,8}-[\w-]{16,})"
        ),
        "Remove the token and revoke it.",
        (
            b"AKIA",
            b"ASIA",
            b"ghp_",
            b"gho_",
            b"ghu_",
            b"ghs_",
            b"ghr_",
            b"github_pat_",
            b"glpat-",
            b"xox",
            b"sk_live_",
            b"AIza",
            b"npm_",
            b"pypi-",
            b"dop_v1_",
            b"bt_",
            b"rk_live_",
            b"SG.",
            b"hvs.",
            b"SWMTKN-",
            b"AGE-SECRET-KEY-",
            b"xapp-",
            b"ya29.",
            b"shpat_",
            b":AA",
            b"glptt-",
            b"dckr_pat_",
            b"tskey-",
        ),
    ),
    ContentRule(
        "token-bearer",
        "high",
        for_bytes(rb"(?i)\bauthorization:\s*(?:bearer|basic|token)\s+[A-Za-z0-9._~+/=-]{12,}"),
        "Remove the token and revoke it.",
        (b"uthorization", b"UTHORIZATION"),
    ),
    ContentRule(
        "password-in-url",
        "high",
        for_bytes(rb"\b[a-z][a-z0-9+.-]{2,12}://[^\s/:@\"'<>{}$%]{1,64}:[^\s/@\"'<>{}$%]{4,128}@[\w.-]+"),
        "Remove the password from the address and change it.",
        (b"://",),
        (16, 320),
    ),
)
#: A private key's header as UTF-16, which some systems write.
_WIDE_KEY = b"PRIVATE KEY".decode().encode("utf-16-le")[:-1]
#: What an unencrypted key begins with in DER (RFC 5208 for RSA, EC and Ed25519; RFC 8017 for RSA alone).
_DER_KEYS = (
    rb"\x02\x01\x00\x30\x0d\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x01\x05\x00\x04\x82",
    rb"\x02\x01\x00\x30\x13\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06",
    rb"\x02\x01\x00\x30\x05\x06\x03\x2b\x65\x70\x04\x22\x04\x20",
    rb"\x02\x01\x00\x02\x82\x01\x01\x00",
    rb"\x02\x01\x00\x02\x82\x02\x01\x00",
)
#: The data that a PKCS#12 file begins with, behind its version (RFC 7292).
_PKCS12 = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x01\xa0\x82"
#: "-----BEGIN " and the first letters of a private key's header, in base64.
_ENCODED_KEYS = tuple(
    b"LS0tLS1CRUdJTi" + rest for rest in (b"BSU0Eg", b"BQUklW", b"BFQyBQ", b"BPUEVO", b"BEU0Eg", b"BFTkNS")
)
CONTENT_RULES += (
    ContentRule(
        "private-key-encoded",
        "high",
        for_bytes(b"(?:" + b"|".join(_ENCODED_KEYS) + rb")[A-Za-z0-9+/=\s]{64}"),
        "Remove the key and make the service create or fetch its own.",
        _ENCODED_KEYS,
    ),
    ContentRule(
        "private-key-wide",
        "high",
        for_bytes(rb"B\x00E\x00G\x00I\x00N\x00 \x00(?:[A-Z ]\x00){0,24}" + escaped_bytes(_WIDE_KEY)),
        "Remove the key and make the service create or fetch its own.",
        (_WIDE_KEY,),
    ),
    ContentRule(
        "private-key-der",
        "high",
        for_bytes(rb"\x30[\x2e-\x84](?s:.{0,4})(?:" + b"|".join(_DER_KEYS) + b")"),
        "Remove the key and make the service create or fetch its own.",
        tuple(key.decode("unicode_escape").encode("latin-1") for key in _DER_KEYS),
        (8, 64),
    ),
    ContentRule(
        "private-key-pkcs12",
        "high",
        for_bytes(rb"\x30\x82(?s:..)\x02\x01\x03\x30\x82(?s:..)" + escaped_bytes(_PKCS12)),
        "Remove the file and make the service fetch its own.",
        (_PKCS12,),
        (32, 64),
    ),
    ContentRule(
        "private-key-shared",
        "high",
        for_bytes(
            rb"-----BEGIN OpenVPN Static key V1-----"
            rb"|(?:PrivateKey|PresharedKey)[ \t]*=[ \t]*[A-Za-z0-9+/]{42}[A-Za-z0-9+/=]="
            rb"|:[ \t]*(?:PSK|EAP|XAUTH)[ \t]+\"[^\"\n]{4,}\""
        ),
        "Remove the key; each instance needs its own.",
        (b"OpenVPN Static key", b"PrivateKey", b"PresharedKey", b"PSK", b"EAP", b"XAUTH"),
        (64, 512),
    ),
    ContentRule(
        "private-key-store",
        "high",
        for_bytes(rb"\xfe\xed\xfe\xed\x00\x00\x00[\x01\x02](?s:....)\x00\x00\x00\x01"),
        "Remove the store and make the service create its own.",
        (b"\xfe\xed\xfe\xed\x00\x00\x00",),
    ),
    ContentRule(
        "password-hash",
        "medium",
        for_bytes(
            rb"\$(?:1|5|6|7|y|gy|2[abxy]|apr1|argon2(?:id|i|d)|scrypt)\$[./A-Za-z0-9$=,+-]{20,}"
            rb"|\{(?:SSHA|SHA)(?:256|384|512)?\}[A-Za-z0-9+/]{24,}"
        ),
        "Remove the hash, or accept it if every instance may have that password.",
        (
            b"$1$",
            b"$5$",
            b"$6$",
            b"$7$",
            b"$y$",
            b"$gy$",
            b"$2a$",
            b"$2b$",
            b"$2x$",
            b"$2y$",
            b"$apr1$",
            b"$argon2",
            b"$scrypt$",
            b"{SSHA",
            b"{SHA",
        ),
        (16, 1024),
    ),
    ContentRule(
        "one-time-secret",
        "high",
        for_bytes(rb"otpauth://[^\s\"'<>]{0,200}secret=[A-Za-z2-7]{16,}"),
        "Remove it and register anew.",
        (b"otpauth://",),
        (16, 600),
    ),
    ContentRule(
        "stored-password",
        "high",
        for_bytes(rb"(?m)^[ \t]*machine[ \t]+\S+\s+(?:login[ \t]+\S+\s+)?password[ \t]+\S+"),
        "Remove it, and change the password.",
        (b"machine",),
        (256, 512),
    ),
    ContentRule(
        "registry-login",
        "high",
        for_bytes(rb"\"auth\"\s*:\s*\"[A-Za-z0-9+/]{8,}={0,2}\""),
        "Remove the log-in and change the password.",
        (b'"auth"',),
    ),
    ContentRule(
        "cluster-key",
        "high",
        for_bytes(rb"client-key-data[\"']?\s*:\s*[\"']?[A-Za-z0-9+/]{40}"),
        "Remove the key and revoke it.",
        (b"client-key-data",),
    ),
    ContentRule(
        "wireless-key",
        "high",
        for_bytes(
            rb"(?m)^[ \t]{0,40}(?:wpa-)?(?:psk|sae_password|wpa_passphrase|wep-key[0-3]|leap-password)[ \t]*=[ \t]*[^\s#*][^\n]{7,}"
        ),
        "Remove the network; first boot sets up each instance's own.",
        (b"psk", b"sae_password", b"wpa_passphrase", b"wep-key", b"leap-password"),
    ),
)
# A name that ends in a word for secrets: alone on its line, in a JSON object, an address or a unit's environment.
ASSIGNMENT = for_bytes(
    rb"(?im)(?:^|[\s{,;\"'&?=])(-{0,2}[\w.-]*?(?:password|passwd|passphrase|secret|token|api[_-]?key|access[_-]?key|"
    rb"private[_-]?key|account[_-]?key|credential|pwd)s?)[\"']?\s*[=:]\s*[\"']?([^\s\"'#;,]{6,256})"
)
#: The groups of an assignment.
NAME, VALUE = 1, 2
COMMENTS = (b"#", b";", b"//", b"<!--")
ASSIGNED_WHERE = matcher(
    [
        "/etc/**",
        "/root/**",
        "/home/**",
        "/opt/**",
        "/srv/**",
        "/Users/**",
        "/ProgramData/**",
        "/var/lib/*/*.{conf,env,ini,json,yaml,yml,toml}",
        "/var/www/**",
        "/usr/local/etc/**",
        "/**/.env",
        "/**/*.env",
    ]
)
# Words about secrets, not secrets: policies, references to variables, files and other services.
NOT_SECRET = for_bytes(
    rb"(?i)^(?:[$%<{\[*(/~@]|file:|env:|vault:|https?:|changeme|example|redacted|xxx|x+$|[a-z_]+\(|"
    rb"(?:true|false|yes|no|none|null|required|optional|sufficient|enabled|disabled|prompt|ask)\W*$)"
)
NOT_ASSIGNED = matcher(
    [
        "/etc/{pam.d,security,ssl/certs,debconf.conf,login.defs,nsswitch.conf,services,apparmor.d}**",
        "/etc/default/useradd",
        "/etc/ssh/ssh{,d}_config",
    ]
)
# A kernel holds the keys with which it tests itself.
SKIPPED = matcher(
    [
        "/boot/**vmlinu*",
        "/usr/share/{doc,man,locale,i18n,zoneinfo,perl,info}/**",
        "/usr/lib/modules/**",
        "/var/lib/dpkg/info/**",
    ]
)
PUBLIC_TEXT = matcher(["/usr/share/**", "/usr/lib/**", "/usr/include/**"])
