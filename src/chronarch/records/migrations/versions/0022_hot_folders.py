"""hot folders with a rule each"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "hot_folder",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("path", sa.String(length=700), nullable=False),
        sa.Column("folder", sa.String(length=300), nullable=False),
        sa.Column("queue", sa.JSON(), nullable=True),
        sa.Column("on", sa.Boolean(), nullable=False),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.Column("added_by", sa.String(length=120), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("path"),
    )


def downgrade() -> None:
    op.drop_table("hot_folder")
