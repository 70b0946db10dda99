"""the change log"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "change_log",
        sa.Column("number", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("at", UtcTime(), server_default=sa.func.utc_timestamp(6), nullable=False),
        sa.Column("kind", sa.String(length=24), nullable=False),
        sa.Column("subject", sa.String(length=80), nullable=False),
        sa.PrimaryKeyConstraint("number"),
    )
    op.create_index("ix_change_log_at", "change_log", ["at"])
    counter = op.create_table(
        "change_counter",
        sa.Column("id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.bulk_insert(counter, [{"id": 1, "number": 0}])
