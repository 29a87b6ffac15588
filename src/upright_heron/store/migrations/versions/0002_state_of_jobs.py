"""Jobs can be put away and deleted; what is deleted stays for a while, so that it can come back."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("job", sa.Column("state", sa.String(10), nullable=False, server_default="open"))
    op.add_column("job", sa.Column("moved", sa.DateTime, nullable=True))


def downgrade() -> None:
    op.drop_column("job", "moved")
    op.drop_column("job", "state")
