"""Prints: the queues of the machines, and the record of what ran."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "print",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("job_id", sa.String(32), nullable=False),
        sa.Column("step_id", sa.Integer, nullable=False),
        sa.Column("job_name", sa.String(120), nullable=False),
        sa.Column("plate", sa.Integer, nullable=False),
        sa.Column("items", sa.Text, nullable=False),
        sa.Column("settings", sa.Text, nullable=False),
        sa.Column("station", sa.String(60), nullable=False),
        sa.Column("model", sa.String(60), nullable=False),
        sa.Column("material", sa.String(60), nullable=False),
        sa.Column("file_name", sa.String(200), nullable=False),
        sa.Column("layers", sa.Integer, nullable=False),
        sa.Column("told_s", sa.Float, nullable=False),
        sa.Column("told_g", sa.Float, nullable=False),
        sa.Column("state", sa.String(10), nullable=False),
        sa.Column("rank", sa.Integer, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
        sa.Column("started", sa.DateTime, nullable=True),
        sa.Column("ended", sa.DateTime, nullable=True),
        sa.Column("layer", sa.Integer, nullable=False, server_default="0"),
        sa.Column("real_s", sa.Float, nullable=True),
        sa.Column("reason", sa.String(200), nullable=False, server_default=""),
        sa.Column("excuse", sa.String(400), nullable=False, server_default=""),
        sa.Column("cleared", sa.Boolean, nullable=False, server_default=sa.false()),
        sa.Column("outcome", sa.String(10), nullable=False, server_default=""),
        sa.Column("who", sa.String(60), nullable=False, server_default=""),
        sa.Column("notes", sa.String(2000), nullable=False, server_default=""),
    )
    op.create_index("print_by_station", "print", ["station", "state", "rank"])
    op.create_table(
        "print_file",
        sa.Column("print_id", sa.String(32), primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("print_file")
    op.drop_index("print_by_station", "print")
    op.drop_table("print")
