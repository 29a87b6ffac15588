"""First tables: jobs, steps, blobs and remembered results."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("step_id", sa.Integer, nullable=True),
        sa.Column("demo", sa.Boolean, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
        sa.Column("touched", sa.DateTime, nullable=False),
    )
    op.create_table(
        "step",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("job_id", sa.String(32), sa.ForeignKey("job.id", ondelete="CASCADE"), nullable=False),
        sa.Column("parent_id", sa.Integer, nullable=True),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("label", sa.String(200), nullable=False),
        sa.Column("sheet", sa.Text, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
    )
    op.create_index("ix_step_job_id", "step", ["job_id"])
    op.create_index("step_by_parent", "step", ["job_id", "parent_id"])
    op.create_table(
        "blob",
        sa.Column("digest", sa.String(32), primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "result",
        sa.Column("key", sa.String(64), primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
        sa.Column("size", sa.Integer, nullable=False),
        sa.Column("used", sa.Float, nullable=False),
    )
    op.create_index("ix_result_used", "result", ["used"])


def downgrade() -> None:
    for table in ("result", "blob", "step", "job"):
        op.drop_table(table)
