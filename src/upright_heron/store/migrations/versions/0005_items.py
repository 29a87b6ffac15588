"""Steps name their item and author; what is looked at is no longer kept; results have other keys."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("step", sa.Column("author", sa.String(40), nullable=False, server_default=""))
    op.add_column("step", sa.Column("item", sa.String(100), nullable=False, server_default=""))
    op.drop_column("job", "looking")
    # None of them would be found again.
    op.execute("DELETE FROM result")


def downgrade() -> None:
    op.add_column("job", sa.Column("looking", sa.Integer, nullable=False, server_default="0"))
    op.drop_column("step", "item")
    op.drop_column("step", "author")
