"""``python -m tests.fuzz edits COUNT`` makes random edits; ``python -m tests.fuzz READER SECONDS`` fuzzes a reader with
atheris, guided by which code its inputs reach.  ``python -m tests.fuzz many READER COUNT`` makes random inputs, which is
several times as fast.  ``python -m tests.fuzz list`` names the readers, and ``keep`` writes what was
collected to the corpus."""

from __future__ import annotations

import sys

import atheris

from tests.fuzz import corpus


def main(argv: list[str]) -> None:
    """Run one of them; anything but a documented error ends it."""
    what, number = argv[1], argv[2] if len(argv) > 2 else "60"
    if what == "many":
        from tests.fuzz import many, readers

        readers.fed(number, b"")
        print(many.many(number, int(argv[3]), readers.fed))
        return
    if what == "edits":
        from tests.fuzz import edits

        edits.main(int(number))
        return
    with atheris.instrument_imports(include=["bathotype.core"], enable_loader_override=False):
        from tests.fuzz import readers
    if what == "list":
        print(*readers.READERS)
        return
    if what == "keep":
        corpus.keep(list(readers.READERS))
        return
    readers.fed(what, b"")
    limits = [f"-max_total_time={number}", "-timeout=20", "-max_len=128", "-rss_limit_mb=8192", "-print_final_stats=1"]
    atheris.Setup([argv[0], str(corpus.give(what)), *limits], lambda data: readers.fed(what, data))
    atheris.Fuzz()


if __name__ == "__main__":
    main(sys.argv)
