"""Which part of a job is looked at."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("job", sa.Column("looking", sa.Integer, nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("job", "looking")
