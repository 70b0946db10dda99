"""backups that were taken and tried, and machines in doubt since the records were restored"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "backup",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("stamp", sa.String(length=24), nullable=True),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("asked_by", sa.String(length=120), nullable=False),
        sa.Column("problem", sa.String(length=1000), nullable=False),
        sa.Column("took_s", sa.Float(53), nullable=False),
        sa.Column("items", sa.Integer(), nullable=False),
        sa.Column("items_bytes", sa.BigInteger(), nullable=False),
        sa.Column("records_bytes", sa.BigInteger(), nullable=False),
        sa.Column("sent_bytes", sa.BigInteger(), nullable=False),
        sa.Column("tried_at", UtcTime(), nullable=True),
        sa.Column("restore_s", sa.Float(53), nullable=True),
        sa.Column("faults", sa.Integer(), nullable=False),
        sa.Column("first_faults", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("stamp"),
    )
    op.create_index(op.f("ix_backup_at"), "backup", ["at"])
    op.add_column("machine", sa.Column("unsure", sa.Integer(), nullable=True))
    op.add_column("machine", sa.Column("strange_build", sa.Integer(), nullable=True))


def downgrade() -> None:
    op.drop_column("machine", "strange_build")
    op.drop_column("machine", "unsure")
    op.drop_table("backup")
