"""A job may be printed on the plates of another, and is found by the materials of single items."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

KEPT = """
    title = substr(coalesce(json_extract(step.sheet, '$.name'), ''), 1, 120),
    words =
        coalesce(json_extract(step.sheet, '$.name'), '') || ' '
        || coalesce(json_extract(step.sheet, '$.printer'), '') || ' '
        || coalesce(json_extract(step.sheet, '$.material'), '') || ' '
        || coalesce(json_extract(step.sheet, '$.notes'), '') || ' '
        || coalesce(json_extract(step.sheet, '$.order.folder'), '') || ' '
        || coalesce(json_extract(step.sheet, '$.order.customer'), '') || ' '
        || coalesce(
            (SELECT group_concat(coalesce(json_extract(one.value, '$.part.file_name'), ''), ' ')
             FROM json_each(step.sheet, '$.items') AS one),
            json_extract(step.sheet, '$.part.file_name'), '') || ' '
        || coalesce(
            (SELECT group_concat(
                coalesce(json_extract(one.value, '$.elsewhere.printer'), '') || ' '
                || coalesce(json_extract(one.value, '$.elsewhere.material'), '') || ' '
                || coalesce(json_extract(one.value, '$.of.name'), ''), ' ')
             FROM json_each(step.sheet, '$.items') AS one), ''),
    folder = coalesce(json_extract(step.sheet, '$.order.folder'), ''),
    due = coalesce(json_extract(step.sheet, '$.order.due'), ''),
    handed_over = coalesce(json_extract(step.sheet, '$.order.handed_over'), ''),
    goes_with = coalesce(json_extract(step.sheet, '$.order.goes_with'), ''),
    plates = max(1, coalesce(json_array_length(step.sheet, '$.plates'), 1)),
    high_mm = coalesce(json_extract(step.sheet, '$.items[0].part.size_mm[2]'),
                       json_extract(step.sheet, '$.part.size_mm[2]'), 0)
"""
TRIGGER = f"""CREATE TRIGGER job_shows AFTER UPDATE OF step_id ON job
    BEGIN
        UPDATE job SET {KEPT} FROM step
        WHERE job.id = NEW.id AND step.id = NEW.step_id AND json_valid(step.sheet);
    END"""


def upgrade() -> None:
    op.add_column("job", sa.Column("goes_with", sa.String(32), nullable=False, server_default=""))
    op.execute("DROP TRIGGER job_shows")
    op.execute(f"UPDATE job SET {KEPT} FROM step WHERE step.id = job.step_id AND json_valid(step.sheet)")
    op.execute(TRIGGER)


def downgrade() -> None:
    # What kept the column has to go with it: the one before is made again without it.
    op.execute("DROP TRIGGER job_shows")
    op.drop_column("job", "goes_with")
    kept = "\n".join(line for line in KEPT.splitlines() if "goes_with" not in line)
    op.execute(TRIGGER.replace(KEPT, kept))
