"""Random edits of ext2, ext3 and ext4 over their features: every sequence ends in a clean file system that holds what was
meant, by the word of e2fsck, of our reader, and of the kernel."""

from __future__ import annotations

import functools
import hashlib
import os
import random
import shutil
import stat
import subprocess
import tempfile
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

from bathotype.core.disk.ext4.edit.editor import Ext4Editor
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.source import open_file
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import BathotypeError, OutOfSpace
from tests.kernel import mounted

#: How each kind of file system is made, and how large it is.
KINDS = {
    "usual": ("-t ext4", "12M"),
    "1 KiB blocks, many groups": ("-t ext4 -b 1024 -g 1024 -N 3000", "12M"),
    "2 KiB blocks": ("-t ext4 -b 2048", "12M"),
    "16 KiB blocks": ("-t ext4 -b 16384 -F", "40M"),
    "ext3": ("-t ext3", "12M"),
    "ext2 as it was": ("-t ext2 -b 1024 -O ^filetype,^dir_index,^sparse_super,^resize_inode", "12M"),
    "rev 0": ("-t ext2 -r 0", "12M"),
    "checksums of groups alone": ("-t ext4 -O ^metadata_csum,uninit_bg -b 1024 -g 2048", "12M"),
    "32 bits, no checksums": ("-t ext4 -O ^metadata_csum,^64bit", "12M"),
    "small inodes": ("-t ext4 -I 128", "12M"),
    "large inodes": ("-t ext4 -I 1024", "12M"),
    "inline": ("-t ext4 -O inline_data", "12M"),
    "inline without checksums": ("-t ext4 -O inline_data,^metadata_csum -I 512", "12M"),
    "large attributes": ("-t ext4 -O ea_inode", "12M"),
    "quota": ("-t ext4 -O quota,project -E quotatype=usrquota:grpquota:prjquota", "12M"),
    "quota and large attributes": ("-t ext4 -O quota,ea_inode,inline_data -b 1024", "12M"),
    "descriptors apart": ("-t ext4 -O meta_bg,^resize_inode -b 1024 -g 512", "12M"),
    "two copies": ("-t ext4 -O sparse_super2 -b 1024 -g 1024", "12M"),
    "groups alone": ("-t ext4 -O ^flex_bg -b 1024 -g 1024", "12M"),
    "orphan file": ("-t ext4 -O orphan_file", "12M"),
    "cases": ("-t ext4 -O casefold -E encoding=utf8", "12M"),
    "no journal": ("-t ext4 -O ^has_journal,large_dir,verity,stable_inodes", "12M"),
    "other hash": ("-t ext4 -b 1024 #tune2fs -E hash_alg=tea", "12M"),
    "oldest hash": ("-t ext4 -b 1024 #tune2fs -E hash_alg=legacy", "12M"),
    "unsigned names": ("-t ext4 -b 1024 #debugfs -w -R ssv\\ flags\\ 2", "12M"),
}  # fmt: skip


@dataclass(frozen=True)
class Known:
    """What is expected of one path: ``group`` is shared by the names of one file."""

    mode: int
    uid: int
    gid: int
    data: bytes
    group: int
    attributes: tuple[tuple[str, bytes], ...] = ()
    mtime: int | None = None


@dataclass
class Model:
    """The tree as it ought to be."""

    paths: dict[str, Known] = field(default_factory=dict)
    fresh: int = 1_000_000

    def below(self, folder: str) -> list[str]:
        return [p for p in self.paths if p.startswith(folder.rstrip("/") + "/")]

    def folders(self) -> list[str]:
        return ["/", *(p for p, k in self.paths.items() if stat.S_ISDIR(k.mode) and p != "/lost+found")]

    def files(self) -> list[str]:
        return [p for p, k in self.paths.items() if stat.S_ISREG(k.mode)]

    def change(self, path: str, **fields: object) -> None:
        """Change a file under all its names."""
        group = self.paths[path].group
        for name, known in self.paths.items():
            if known.group == group:
                self.paths[name] = replace(known, **fields)  # type: ignore[arg-type]

    def add(self, path: str, mode: int, uid: int, gid: int, data: bytes = b"") -> None:
        self.fresh += 1
        self.paths[path] = Known(mode, uid, gid, data, self.fresh)


def read_model(fs: Ext4) -> Model:
    """The tree as our reader sees it."""
    model = Model()
    for entry in fs.walk():
        if entry.path != "/":
            node = entry.inode
            data = b"" if node.is_dir else fs.read(node) if node.is_file or node.is_link else b"special"
            held = tuple(sorted(fs.attributes(node).items()))
            model.paths[entry.path] = Known(node.mode, node.uid, node.gid, data, node.number, held, node.mtime)
    return model


class Fault(AssertionError):
    """What was expected and is not so."""


def sh(*argv: str | Path) -> str:
    done = subprocess.run(argv, capture_output=True, text=True, errors="replace", check=False)
    if done.returncode:
        raise Fault(f"{' '.join(map(str, argv))}: {done.stdout}{done.stderr}")
    return done.stdout


def kernel_mounts() -> bool:
    return os.geteuid() == 0 and Path("/dev/loop-control").exists()


@functools.cache
def base(kind: str, cache: Path) -> Path:
    """A file system with something of everything, as the kernel makes it (or mke2fs, where nobody may mount)."""
    image = cache / f"{hashlib.sha256(kind.encode()).hexdigest()[:12]}.img"
    options, size = KINDS[kind]
    options, _, after = options.partition("#")
    tree = cache / "tree"
    if not tree.exists():
        populate(tree, attributes=False)
    sh("truncate", "-s", size, image)
    with_tree = [] if mounts(kind, write=True) else ["-d", str(tree)]
    sh("/usr/sbin/mke2fs", "-q", *options.split(), *with_tree, image)
    if after:
        sh(*(word.replace("\\", "") for word in _words(after)), image)
    if mounts(kind, write=True):
        with mounted(image, cache / "mnt", "rw") as top:
            populate(top, attributes=True)
    subprocess.run(["/usr/sbin/e2fsck", "-fy", image], capture_output=True, check=False)  # kernels without quotas
    sh("/usr/sbin/e2fsck", "-fn", image)
    return image


def _words(text: str) -> list[str]:
    return [word.replace("\0", " ") for word in text.replace("\\ ", "\0").split()]


def mounts(kind: str, *, write: bool = False) -> bool:
    """Whether this kernel can mount a kind: not with blocks larger than its pages, with names in all cases, or with
    quotas to write to."""
    return kernel_mounts() and kind not in ("16 KiB blocks", "cases") and not (write and "quota" in kind)


def populate(top: Path, *, attributes: bool) -> None:
    """Files of many kinds."""
    chance = random.Random(7)
    for folder in ("etc", "deep/er/and/deeper", "many", "long", "empty"):
        (top / folder).mkdir(parents=True, exist_ok=True)
    (top / "etc/hostname").write_bytes(b"gauge-07\n")
    for size in (0, 1, 59, 60, 61, 120, 1023, 1024, 4096, 5000, 70_000, 300_000):
        (top / f"etc/f{size}").write_bytes(chance.randbytes(size))
    for number in range(240):
        (top / "many" / f"{number:03d}-{'n' * (number % 60)}").write_bytes(b"x" * (number % 7))
    for number in range(30):
        (top / "long" / (chr(97 + number % 26) * 200 + str(number))).write_bytes(b"")
    (top / "etc/short").symlink_to("hostname")
    (top / "etc/long").symlink_to("/" + "t" * 200)
    os.link(top / "etc/f5000", top / "deep/second")
    os.link(top / "etc/f5000", top / "deep/er/third")
    with (top / "etc/sparse").open("wb") as file:
        for at in range(40):
            file.seek(at * 40_000)
            file.write(b"s" * 3000)
    (top / "deep/er/odd \n\x01\"'\\ name").write_bytes(b"odd")
    (top / os.fsdecode(b"deep/\xff\xfe")).write_bytes(b"bytes")
    if attributes:
        for name in ("hostname", "f60", "f5000", "short"):
            with suppress(OSError):
                os.setxattr(
                    top / "etc" / name, "security.selinux", b"system_u:object_r:etc_t:s0\0", follow_symlinks=False
                )
        for number in range(6):
            with suppress(OSError):
                os.setxattr(top / "many" / f"{number:03d}-{'n' * number}", "user.note", b"shared " * 40)
            with suppress(OSError):
                os.setxattr(top / "etc" / f"f{(0, 1, 59, 60, 61, 120)[number]}", "user.big", b"b" * 9000)
        os.mkfifo(top / "etc/pipe")
        os.mknod(top / "etc/null", 0o666 | stat.S_IFCHR, os.makedev(1, 3))
        for number in range(12):
            os.chown(top / "many" / f"{number:03d}-{'n' * number}", 1000 + number, 2000)
        with (top / "etc/unwritten").open("wb") as file, suppress(OSError):
            os.posix_fallocate(file.fileno(), 0, 200_000)
        # Small files in small folders stay in their inodes, where the file system can do that.
        (top / "inl").mkdir()
        for number in range(3):
            (top / "inl" / f"i{number}").write_bytes(b"inline" * number)


def edit(editor: Ext4Editor, model: Model, chance: random.Random) -> str:
    """One random edit, of the disk and of the model alike."""
    verb = chance.choice(
        ["remove", "remove", "write", "write", "create", "mkdir", "link", "mode", "owner", "cut", "tree"]
    )
    name = "".join(chance.choices("abcdeö\n", k=chance.choice([1, 3, 8, 40, 120])))
    path = f"{chance.choice(model.folders()).rstrip('/')}/{name}"
    size = chance.choice([0, 1, 60, 500, 4096, 20_000, 150_000])
    uid, gid = chance.choice([0, 1000, 70_000]), chance.choice([0, 2000, 70_001])
    there = path in model.paths or len(os.fsencode(name)) > 255
    if verb == "remove" and (files := [p for p, k in model.paths.items() if not stat.S_ISDIR(k.mode)]):
        path = chance.choice(files)
        editor.remove(path)
        del model.paths[path]
    elif verb == "tree" and (folders := [f for f in model.folders() if f != "/"]) and chance.random() < 0.3:
        path = chance.choice(folders)
        for each in [
            *sorted(model.below(path), key=lambda p: p.encode("utf-8", "surrogateescape"), reverse=True),
            path,
        ]:
            editor.remove(each)
            del model.paths[each]
    elif verb == "write" and (files := model.files()):
        path = chance.choice(files)
        data = chance.randbytes(size)
        editor.write(path, data)
        model.change(path, data=data)
    elif verb == "cut" and (files := model.files()):
        path = chance.choice(files)
        data = model.paths[path].data[:size]
        editor.truncate(path, size)
        model.change(path, data=data)
    elif verb == "create" and not there:
        data = chance.randbytes(size)
        editor.write(path, data, mode=0o640, uid=uid, gid=gid)
        model.add(path, stat.S_IFREG | 0o640, uid, gid, data)
    elif verb == "mkdir" and not there:
        editor.make_directory(path, mode=0o750, uid=uid, gid=gid)
        model.add(path, stat.S_IFDIR | 0o750, uid, gid)
    elif verb == "link" and not there:
        target = chance.choice(["x", "t" * 59, "t" * 60, "/" + "t" * 400])
        editor.symlink(path, target, uid=uid, gid=gid)
        model.add(path, stat.S_IFLNK | 0o777, uid, gid, target.encode())
    elif verb in ("mode", "owner") and (paths := [p for p in model.paths if not stat.S_ISLNK(model.paths[p].mode)]):
        path = chance.choice(paths)
        if verb == "mode":
            editor.change_mode(path, 0o4711)
            model.change(path, mode=stat.S_IFMT(model.paths[path].mode) | 0o4711)
        else:
            editor.change_owner(path, uid, gid)
            model.change(path, uid=uid, gid=gid)
    return f"{verb} {path!r} {size}"


def compare(model: Model, found: Model, who: str) -> None:
    """Raise where the two are not the same."""
    if set(model.paths) != set(found.paths):
        raise Fault(f"{who}: {sorted(set(model.paths) ^ set(found.paths))[:5]}")
    groups: dict[int, int] = {}
    for path, known in model.paths.items():
        seen = found.paths[path]
        for what in ("mode", "uid", "gid", "data"):
            if getattr(known, what) != getattr(seen, what) and not (what == "data" and seen.data == b"special"):
                mine, theirs = getattr(known, what), getattr(seen, what)
                short = (len(mine), len(theirs)) if what == "data" else (mine, theirs)
                raise Fault(f"{who}: {what} of {path!r} is not as meant: {short}")
        if known.attributes and known.attributes != seen.attributes:
            raise Fault(f"{who}: attributes of {path!r} are not as they were: {seen.attributes}")
        if known.mtime is not None and not stat.S_ISDIR(known.mode) and known.mtime != seen.mtime:
            raise Fault(f"{who}: the time of {path!r} is another")
        if groups.setdefault(known.group, seen.group) != seen.group:
            raise Fault(f"{who}: {path!r} is not the same file as its other names")


def read_by_kernel(image: Path, folder: Path) -> Model:
    """The tree as the kernel sees it."""
    model = Model()
    with mounted(image, folder, "ro") as top:
        for path in (Path(root) / name for root, folders, files in os.walk(top) for name in [*folders, *files]):
            seen = path.lstat()
            data, held = b"", ()
            if stat.S_ISREG(seen.st_mode):
                data = path.read_bytes()
            elif stat.S_ISLNK(seen.st_mode):
                data = os.fsencode(path.readlink())
            elif not stat.S_ISDIR(seen.st_mode):
                data = b"special"
            with suppress(OSError):
                names = os.listxattr(path, follow_symlinks=False)
                held = tuple(sorted((n, os.getxattr(path, n, follow_symlinks=False)) for n in names))
            model.paths[f"/{path.relative_to(top)}"] = Known(
                seen.st_mode, seen.st_uid, seen.st_gid, data, seen.st_ino, held, int(seen.st_mtime)
            )
    return model


def sequence(kind: str, seed: int, work: Path, *, kernel: bool) -> list[str]:
    """One sequence of edits, judged.  Raises `Fault` with what was done."""
    chance = random.Random(f"{kind} {seed}")
    image = work / f"edit-{os.getpid()}.img"
    shutil.copyfile(base(kind, work), image)
    done: list[str] = []
    try:
        with open_file(image, writable=True) as file:
            model = read_model(Ext4(file))
            editor = Ext4Editor(file, Stretch.of(0, file.size))
            try:
                for _ in range(chance.randrange(1, 40)):
                    done.append(edit(editor, model, chance))
            except OutOfSpace:
                return done
            editor.finish()
        sh("/usr/sbin/e2fsck", "-fn", image)
        with open_file(image) as file:
            compare(model, read_model(Ext4(file)), "our reader")
        if kernel and mounts(kind):
            compare(model, read_by_kernel(image, work / f"mnt-{os.getpid()}"), "the kernel")
    except Exception as error:
        raise Fault(f"{kind}, seed {seed}: {error!r}\n" + "\n".join(done)) from error
    return done


def hostile(kind: str, seed: int, work: Path) -> str:
    """Edits of a file system of which some bytes were changed: they end, and with nothing but errors that are documented."""
    chance = random.Random(f"hostile {kind} {seed}")
    image = work / f"hostile-{os.getpid()}.img"
    shutil.copyfile(base(kind, work), image)
    with open_file(image, writable=True) as file:
        used = _structures(kind, work)
        for _ in range(chance.choice([1, 2, 5, 20])):
            at = chance.choice(used) + chance.randrange(256)
            file.write(at, chance.choice([bytes(4), b"\xff" * 4, chance.randbytes(1), chance.randbytes(4)]))
        try:
            model = read_model(Ext4(file))
            editor = Ext4Editor(file, Stretch.of(0, file.size))
            editor.let_orphans_go()
            for _ in range(20):
                edit(editor, model, chance)
            editor.finish()
        except BathotypeError as error:
            return error.code
        except Exception as error:
            raise Fault(f"{kind}, seed {seed}: {error!r}") from error
    return "no error"


@functools.cache
def _structures(kind: str, work: Path) -> list[int]:
    """Where the file system's own structures lie, in pieces of 256 bytes: superblock, groups, inodes, folders, maps."""
    found = [*range(1024, 2048, 256)]
    with open_file(base(kind, work)) as file:
        fs = Ext4(file)
        size = fs.block_size
        blocks = [fs.descriptor_place(0) // size]
        for group in fs.groups:
            blocks += [group.block_bitmap, group.inode_bitmap, *range(group.inode_table, group.inode_table + 8)]
        for entry in fs.walk():
            blocks += fs.map_blocks(entry.inode)
            if entry.inode.is_dir:
                blocks += [start + i for _, start, count, _ in fs.extents(entry.inode) for i in range(count)]
    return found + [block * size + at for block in blocks for at in range(0, size, 256)]


def main(count: int) -> None:
    """So many sequences over all kinds, in turns."""
    kinds = list(KINDS)
    edits, ends = 0, Counter[str]()
    with tempfile.TemporaryDirectory(prefix="edits-") as folder:
        for number in range(count):
            kind = kinds[number % len(kinds)]
            edits += len(sequence(kind, number, Path(folder), kernel=number // len(kinds) % 5 == 0))
            ends[hostile(kind, number, Path(folder))] += 1
    print(f"{count} sequences, {edits} edits: no fault; of damaged file systems: {dict(ends)}")
