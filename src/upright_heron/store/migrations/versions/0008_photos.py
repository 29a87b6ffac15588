"""Photos of what was printed; and the Yard finds a job by the printers that single plates go to, too."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
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
            (SELECT group_concat(coalesce(json_extract(one.value, '$.elsewhere.printer'), ''), ' ')
             FROM json_each(step.sheet, '$.items') AS one), ''),
    folder = coalesce(json_extract(step.sheet, '$.order.folder'), ''),
    due = coalesce(json_extract(step.sheet, '$.order.due'), ''),
    handed_over = coalesce(json_extract(step.sheet, '$.order.handed_over'), ''),
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
    op.create_table(
        "print_photo",
        sa.Column("print_id", sa.String(32), primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.execute("DROP TRIGGER job_shows")
    op.execute(f"UPDATE job SET {KEPT} FROM step WHERE step.id = job.step_id AND json_valid(step.sheet)")
    op.execute(TRIGGER)


def downgrade() -> None:
    # What is looked for reads the same words: the trigger may stay.
    op.drop_table("print_photo")
