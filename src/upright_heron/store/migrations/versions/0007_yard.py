"""What the Yard looks for, beside each job: the database keeps it whenever another step is shown.

And where on the plate a print failed.
"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

COLUMNS = (
    sa.Column("title", sa.String(120), nullable=False, server_default=""),
    sa.Column("words", sa.Text, nullable=False, server_default=""),
    sa.Column("folder", sa.String(60), nullable=False, server_default=""),
    sa.Column("due", sa.String(10), nullable=False, server_default=""),
    sa.Column("handed_over", sa.String(10), nullable=False, server_default=""),
    sa.Column("plates", sa.Integer, nullable=False, server_default="1"),
    sa.Column("high_mm", sa.Float, nullable=False, server_default="0"),
)
FAILED_AT = ("at_x_mm", "at_y_mm")
# Sheets from before items have their part beside the rest.
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
            json_extract(step.sheet, '$.part.file_name'), ''),
    folder = coalesce(json_extract(step.sheet, '$.order.folder'), ''),
    due = coalesce(json_extract(step.sheet, '$.order.due'), ''),
    handed_over = coalesce(json_extract(step.sheet, '$.order.handed_over'), ''),
    plates = max(1, coalesce(json_array_length(step.sheet, '$.plates'), 1)),
    high_mm = coalesce(json_extract(step.sheet, '$.items[0].part.size_mm[2]'),
                       json_extract(step.sheet, '$.part.size_mm[2]'), 0)
"""


def upgrade() -> None:
    for column in COLUMNS:
        op.add_column("job", column)
    for name in FAILED_AT:
        op.add_column("print", sa.Column(name, sa.Float, nullable=True))
    op.create_index("job_by_state", "job", ["state", "touched"])
    op.create_index("print_by_job", "print", ["job_id", "state"])
    op.execute(f"UPDATE job SET {KEPT} FROM step WHERE step.id = job.step_id AND json_valid(step.sheet)")
    op.execute(
        f"""CREATE TRIGGER job_shows AFTER UPDATE OF step_id ON job
        BEGIN
            UPDATE job SET {KEPT} FROM step
            WHERE job.id = NEW.id AND step.id = NEW.step_id AND json_valid(step.sheet);
        END"""
    )


def downgrade() -> None:
    op.execute("DROP TRIGGER job_shows")
    op.drop_index("print_by_job", "print")
    op.drop_index("job_by_state", "job")
    for name in FAILED_AT:
        op.drop_column("print", name)
    for column in COLUMNS:
        op.drop_column("job", column.name)
