"""The shop's shelf: its own printers and materials, and what it measured."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "shelf",
        sa.Column("kind", sa.String(12), primary_key=True),
        sa.Column("name", sa.String(130), primary_key=True),
        sa.Column("data", sa.Text, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("shelf")
