"""Jobs as the Yard looks for them: by state, folder, words and how far they are, a page at a time."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any, Literal

from sqlalchemy import ColumnElement, and_, case, distinct, exists, func, or_, select
from sqlalchemy.orm import aliased

from .database import Database, NotFound
from .models import JobRow, PrintRow, StepRow
from .prints import UNDER_WAY, WAITING, Stage

Order = Literal["touched", "title", "due", "height"]


class Standing(StrEnum):
    """How far a job is, as the shop sees it."""

    CAME_IN = "came in"
    IN_WORK = "in work"
    WAITS = "in the queue"
    PRINTING = "printing"
    PRINTED = "printed"
    HANDED_OVER = "handed over"


@dataclass(frozen=True, slots=True)
class YardPage:
    """A page of jobs.

    Attributes
    ----------
    ids : tuple of (str, Standing)
        Jobs of the page, in order, and how far each is.
    count : int
        All that were found.
    by_standing : dict of str to int
        How many there are of each standing, of what words and folder leave.
    folders : tuple of str
        Of all jobs of the state.
    """

    ids: tuple[tuple[str, Standing], ...]
    count: int
    by_standing: dict[str, int]
    folders: tuple[str, ...]


def _forms(word: str) -> set[str]:
    return {word, word.upper(), word.capitalize()}


# The job on whose plates one is printed: its own, unless it goes with another.
_PRINTS = case((JobRow.goes_with != "", JobRow.goes_with), else_=JobRow.id)


def _printed(*states: Stage) -> ColumnElement[bool]:
    among = PrintRow.state.in_([one.value for one in states])
    return exists().where(and_(PrintRow.job_id == _PRINTS, among))


def standing() -> ColumnElement[str]:
    """How far a job is, for a query of jobs."""
    begun = exists().where(and_(StepRow.id == JobRow.step_id, StepRow.number > 1))
    # What a person found to have failed has to be printed once more.
    good = and_(PrintRow.job_id == _PRINTS, PrintRow.state == Stage.DONE.value, PrintRow.outcome != "failed")
    plates = select(func.count(distinct(PrintRow.plate))).where(good).scalar_subquery()
    host = aliased(JobRow)
    all_plates = select(host.plates).where(host.id == _PRINTS).scalar_subquery()
    return case(
        (JobRow.handed_over != "", Standing.HANDED_OVER.value),
        (_printed(*UNDER_WAY), Standing.PRINTING.value),
        (_printed(*WAITING), Standing.WAITS.value),
        (plates >= all_plates, Standing.PRINTED.value),
        (begun, Standing.IN_WORK.value),
        else_=Standing.CAME_IN.value,
    )


class Yard(Database):
    """The jobs of a database, looked for."""

    def standing_of(self, job_id: str) -> Standing:
        """How far a job is.

        Raises
        ------
        NotFound
        """
        with self.session() as s:
            found = s.scalar(select(standing()).select_from(JobRow).where(JobRow.id == job_id))
        if found is None:
            raise NotFound("There is no such job.", "Go back to the Yard and pick another.")
        return Standing(found)

    def yard_page(
        self,
        state: str,
        *,
        words: str = "",
        folder: str = "",
        standing_is: str = "",
        order: Order = "touched",
        first: int = 0,
        count: int = 60,
    ) -> YardPage:
        """Find jobs.

        Parameters
        ----------
        state : str
            Open, archived or deleted.
        words : str
            Every one is in the name, a file, machine, material, notes, folder or customer.
        folder : str
            Empty for all.
        standing_is : str
            Of ``Standing``; empty for all.
        order : str
            What was touched last first; by name; what is due first; the lowest first.
        first, count : int
            Which of those that were found.

        Returns
        -------
        YardPage
        """
        asked: list[Any] = [JobRow.state == state]
        # The database folds only the case of plain letters.
        asked += [
            or_(*(JobRow.words.contains(form, autoescape=True) for form in _forms(word)))
            for word in words.lower().split()[:12]
        ]
        if folder:
            asked.append(JobRow.folder == folder)
        far = standing()
        orders = {
            "touched": (JobRow.touched.desc(),),
            "title": (func.lower(JobRow.title),),
            "due": (JobRow.due == "", JobRow.due),
            "height": (JobRow.high_mm,),
        }[order]
        with self.session() as s:
            counted = select(far, func.count()).where(*asked).group_by(far)
            by_standing = {str(name): int(number) for name, number in s.execute(counted)}
            among = [*asked, far == standing_is] if standing_is else asked
            found = (
                select(JobRow.id, far).where(*among).order_by(*orders, JobRow.id).offset(first).limit(count)
            )
            ids = tuple((str(name), Standing(how)) for name, how in s.execute(found))
            of_state = select(JobRow.folder).where(JobRow.state == state, JobRow.folder != "")
            folders = tuple(str(name) for name in s.scalars(of_state.distinct().order_by(JobRow.folder)))
        total = by_standing.get(standing_is, 0) if standing_is else sum(by_standing.values())
        return YardPage(ids, total, by_standing, folders)
