"""What remembered results take in all is kept by the database itself: summing them up took the write lock."""

from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("CREATE TABLE result_room (id INTEGER PRIMARY KEY CHECK (id = 1), bytes INTEGER NOT NULL)")
    op.execute("INSERT INTO result_room SELECT 1, coalesce(sum(size), 0) FROM result")
    for when, by in (
        ("INSERT", "+ NEW.size"),
        ("DELETE", "- OLD.size"),
        ("UPDATE OF size", "- OLD.size + NEW.size"),
    ):
        name = when.split()[0].lower()
        op.execute(
            f"CREATE TRIGGER result_room_{name} AFTER {when} ON result "
            f"BEGIN UPDATE result_room SET bytes = bytes {by} WHERE id = 1; END"
        )


def downgrade() -> None:
    for name in ("insert", "delete", "update"):
        op.execute(f"DROP TRIGGER result_room_{name}")
    op.drop_table("result_room")
