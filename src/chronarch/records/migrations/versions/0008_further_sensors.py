"""heat of further sensors, as it came and as means"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "sensor_reading",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("sensor", sa.String(length=20), nullable=False),
        sa.Column("c", sa.Float(), nullable=True),
        sa.Column("asked_c", sa.Float(), nullable=True),
        sa.PrimaryKeyConstraint("machine_id", "at", "sensor"),
    )
    op.create_table(
        "sensor_mean",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("span_s", sa.Integer(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("sensor", sa.String(length=20), nullable=False),
        *(sa.Column(name, sa.Float(), nullable=True) for name in ("c", "least_c", "most_c", "asked_c")),
        sa.PrimaryKeyConstraint("machine_id", "span_s", "at", "sensor"),
    )


def downgrade() -> None:
    op.drop_table("sensor_mean")
    op.drop_table("sensor_reading")
