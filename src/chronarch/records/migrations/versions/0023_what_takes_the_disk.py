"""what takes the disk, by day"""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "storage_day",
        sa.Column("day", sa.Date(), primary_key=True),
        sa.Column("part", sa.String(length=20), primary_key=True),
        sa.Column("size", sa.BigInteger(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("storage_day")
