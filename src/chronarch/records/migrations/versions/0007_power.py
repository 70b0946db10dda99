"""plugs, what machines draw, and power and fan beside the heat"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "plug_profile",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("spec", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "plug",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("profile_id", sa.Integer(), sa.ForeignKey("plug_profile.id"), nullable=False),
        sa.Column("shown", sa.String(length=300), nullable=False),
        sa.Column("login", sa.String(length=120), nullable=False),
        sa.Column("has_password", sa.Boolean(), nullable=False),
        sa.Column("access", sa.LargeBinary(4000), nullable=False),
        sa.Column("rules", sa.JSON(), nullable=False),
        sa.Column("off_by_itself", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("machine_id"),
    )
    op.create_table(
        "energy",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("build_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("wh", sa.Float(53), nullable=False),
        sa.Column("last_at", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("machine_id", "day", "state", "build_id"),
    )
    op.create_index("energy_of_build", "energy", ["build_id"])
    op.create_index("energy_of_day", "energy", ["day"])
    for table in ("reading", "reading_mean"):
        for column in ("power_w", "fan_pct"):
            op.add_column(table, sa.Column(column, sa.Float(), nullable=True))


def downgrade() -> None:
    for table in ("reading", "reading_mean"):
        for column in ("power_w", "fan_pct"):
            op.drop_column(table, column)
    for table in ("energy", "plug", "plug_profile"):
        op.drop_table(table)
