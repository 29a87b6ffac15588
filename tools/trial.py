"""The trial (``make trial``): files that bite, kills, full disks, foreign databases; a table at the end."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from tests.trial import disks, files, kills  # noqa: E402
from tests.trial.watched import HEAD, Tally, Watched  # noqa: E402


def with_server(tally: Tally, run: Callable[[Watched], None]) -> None:
    """Try a server of its own, and end it in order."""
    server = Watched()
    try:
        run(server)
        server.stop(tally)
    finally:
        server.close()


def main() -> None:
    """Run the parts that are asked for."""
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("parts", nargs="*", help="bombs, mutations, kills, migrations, disk, locked, foreign")
    asked.add_argument("--mutations", type=int, default=2000)
    asked.add_argument("--kills", type=int, default=270)
    asked.add_argument("--migrations", type=int, default=30)
    asked.add_argument("--seed", type=int, default=1)
    given = asked.parse_args()
    rows: list[Tally] = []

    def part(name: str, what: str, run: Callable[[Tally], None]) -> None:
        if given.parts and name not in given.parts:
            return
        tally, begin = Tally(what), time.monotonic()
        run(tally)
        rows.append(tally)
        took, answered = time.monotonic() - begin, tally.answered
        print(f"{what}: {took:.0f} s, {tally.bad} wrong, {answered} answered before kills", flush=True)
        for words in tally.worst[:20]:
            print(f"  {words}", flush=True)

    def bombs_sent(tally: Tally) -> None:
        with_server(tally, lambda server: files.over_http(server, files.every_bomb(), tally))

    def mutations_sent(tally: Tally) -> None:
        def run(server: Watched) -> None:
            files.over_http(server, files.every_mutation(server, given.mutations, given.seed), tally)

        with_server(tally, run)

    def mutations_in_shell(tally: Tally) -> None:
        some = []
        with_server(
            Tally("sound files"),
            lambda server: some.extend(files.every_mutation(server, given.mutations // 10, given.seed + 1)),
        )
        files.in_shell(some, tally)

    with tempfile.TemporaryDirectory(prefix="heron-trial-") as folder:
        place = Path(folder)
        part("foreign", "databases of others", disks.foreign)
        part("locked", "a locked database", disks.locked)
        part("disk", "a full disk", disks.full_disk)
        part("bombs", "bombs over HTTP", bombs_sent)
        part("bombs", "bombs in the shell", lambda tally: files.in_shell(files.every_bomb(), tally))
        part("mutations", "mutated files over HTTP", mutations_sent)
        part("mutations", "mutated files in the shell", mutations_in_shell)
        part("migrations", "kills amid migrations",
             lambda tally: kills.migrations(given.migrations, given.seed, place, tally))  # fmt: skip
        part("kills", "kills amid work", lambda tally: kills.kills(given.kills, given.seed, place, tally))
    print()
    print(HEAD)
    for row in rows:
        print(row.row())
    sys.exit(1 if any(row.bad for row in rows) else 0)


if __name__ == "__main__":
    main()
