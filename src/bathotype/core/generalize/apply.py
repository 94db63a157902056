"""Making a plan's changes on a copy of the disk in a raw file, volume by volume."""

from __future__ import annotations

from collections import defaultdict

from bathotype.core.disk.ext4.edit.editor import Ext4Editor
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.fat import Fat, FatFile
from bathotype.core.disk.fatedit import blanking, emptying, removal
from bathotype.core.disk.source import FileSource
from bathotype.core.errors import Refused
from bathotype.core.generalize.plan import Plan
from bathotype.core.guest.files import GuestDisk
from bathotype.core.guest.mounts import Mount
from bathotype.core.guest.offline import Tool, check


def apply_plan(result: Plan, disk: GuestDisk, image: FileSource, *, judge: Tool = check) -> None:
    """Make the planned changes on a copy of the disk in a raw file, and have its file systems judged.

    Raises `Damaged` or `OutOfSpace`; the copy is then of no further use.
    """
    removed: dict[str, list[str]] = defaultdict(list)
    written: dict[str, list[str]] = defaultdict(list)
    for path in result.removed:
        removed[disk.mount_of(path).point].append(path)
    for path in result.written:
        written[disk.mount_of(path).point].append(path)
    for mount in disk.mounts:
        folders = [path for path in result.folders if disk.mount_of(path).point == mount.point]
        gone = sorted(removed[mount.point], reverse=True)  # children before their folders
        if isinstance(mount.fs, Ext4):
            _edit_ext4(result, disk, mount, gone, folders, written[mount.point], image)
            judge(image, mount.volume.stretch)
        elif isinstance(mount.fs, Fat):
            _edit_fat(result, disk, mount, [*gone, *folders], written[mount.point], image)


def _edit_ext4(
    result: Plan,
    disk: GuestDisk,
    mount: Mount,
    gone: list[str],
    folders: list[str],
    written: list[str],
    image: FileSource,
) -> None:
    editor = Ext4Editor(image, mount.volume.stretch)
    for path in gone:
        editor.remove(disk.locate(path)[1])
    for path in folders:  # outer before inner
        new = result.folders[path]
        editor.make_directory(disk.locate(path)[1], mode=new.mode, uid=new.uid, gid=new.gid)
    for path in written:
        content, inside = result.written[path], disk.locate(path)[1]
        if content.replaces and path in disk.entries:
            editor.remove(inside)
        editor.write(inside, content.data, mode=content.mode, uid=content.uid, gid=content.gid)
    editor.finish()
    image.flush()


def _edit_fat(
    result: Plan, disk: GuestDisk, mount: Mount, gone: list[str], written: list[str], image: FileSource
) -> None:
    window, stretch = mount.volume.within(image), mount.volume.stretch

    def write(changes: list[tuple[int, bytes]]) -> None:
        for at, data in changes:
            stretch.write(image, at, data)

    for path in [*gone, *written]:
        node = disk.entries.get(path)
        emptied = path in result.written and not result.written[path].data
        if not isinstance(node, FatFile) or (path in result.written and not emptied):
            raise Refused(
                f"{path} is on a FAT file system, where files can be removed and emptied but not written.",
                advice="Leave it out of the profile's write and line steps, or remove it.",
                code="fat-not-writable",
            )
        write(list((emptying if emptied else removal)(Fat(window), node)))
    write(list(blanking(Fat(window))))
    image.flush()
