"""Commands for whole jobs in a file: written, taken in, and looked through before they go."""

from __future__ import annotations

import io
import tempfile
from pathlib import Path
from typing import Annotated, Any

import typer

from ..core.errors import BadValue
from ..settings import Settings
from ..store.archive import read_archive, write_archive
from ..store.store import Store
from .files import Json, tell, write

Base = Annotated[Path | None, typer.Option("--database", help="Database file; that of the server without.")]


def _store(path: Path | None) -> Store:
    return Store(path if path is not None else Settings().database)


def export_job(
    out: Annotated[Path, typer.Option(help="The archive to write: NAME.heron.")],
    job: Annotated[list[str] | None, typer.Argument(help="Ids of jobs; the whole shop without.")] = None,
    database: Base = None,
    as_json: Json = False,
) -> None:
    """Write jobs with all their steps into one file, or the whole shop."""
    store = _store(database)
    data = io.BytesIO()
    write_archive(store, data, job or None)
    write(out, data.getvalue())
    tell({"file": str(out), "bytes": data.tell(), "jobs": len(job) if job else "all"}, as_json)


def import_job(
    file: Annotated[Path, typer.Argument(help="An archive that was written by export-job.")],
    database: Base = None,
    as_json: Json = False,
) -> None:
    """Take in what an archive holds: all of it, or nothing."""
    found = read_archive(_store(database), _looked_through(file))
    jobs = [{"was": was, "id": name} for was, name in found.jobs.items()]
    told = {"jobs": jobs, "shelved": found.shelved, "prints": found.prints, "unreadable": found.unreadable}
    tell(told, as_json)


def preflight(
    file: Annotated[Path, typer.Argument(help="An archive of jobs.")], as_json: Json = False
) -> None:
    """Tell what is wrong or doubtful in each job of an archive, item by item and plate by plate."""
    from ..core.progress import silent
    from ..work.checking import checked_job

    with tempfile.TemporaryDirectory(prefix="heron-") as folder:
        store = Store(Path(folder) / "archive.sqlite3")
        found = read_archive(store, _looked_through(file))
        told: list[dict[str, Any]] = []
        for was, name in found.jobs.items():
            if was in found.unreadable:
                mend = "Take the archive in, and go back to its last sound step in the Yard."
                wrong_with_it = {"weight": "wrong", "text": "This job cannot be read.", "mend": mend}
                told.append(
                    {"job": was, "name": store.title_of(name), "plates": 0, "checks": [wrong_with_it]}
                )
                continue
            sheet = store.job(name).sheet
            checks = [
                {
                    "weight": one.weight.value,
                    "text": one.text,
                    "mend": one.mend,
                    "topic": one.topic.value,
                    "item": one.item,
                    "copy": one.copy,
                    "plate": one.plate,
                }
                for one in checked_job(sheet, store, silent)
            ]
            told.append({"job": was, "name": sheet.name, "plates": len(sheet.plates), "checks": checks})
        store.close()
    wrong = sum(one["weight"] == "wrong" for job in told for one in job["checks"])
    tell({"jobs": told, "wrong": wrong}, as_json)


def _looked_through(path: Path) -> io.BytesIO:
    from ..work.reading_apart import check_apart

    opened = _opened(path)
    check_apart(opened.getvalue())
    return opened


def _opened(path: Path) -> io.BytesIO:
    try:
        return io.BytesIO(path.read_bytes())
    except OSError as error:
        raise BadValue(f"{path} cannot be read: {error.strerror or error}.", "Check the path.") from error
