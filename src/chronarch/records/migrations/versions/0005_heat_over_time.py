"""heat over time: means of minutes and of hours"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    figures = [
        sa.Column(f"{heater}_{what}", sa.Float(), nullable=True)
        for heater in ("nozzle", "bed", "chamber")
        for what in ("c", "least_c", "most_c", "asked_c")
    ]
    op.create_table(
        "reading_mean",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("span_s", sa.Integer(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        *figures,
        sa.PrimaryKeyConstraint("machine_id", "span_s", "at"),
    )


def downgrade() -> None:
    op.drop_table("reading_mean")
