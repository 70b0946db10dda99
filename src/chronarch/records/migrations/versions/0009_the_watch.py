"""where cameras see beds, what the watch suspects, and what follows"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "bed_view",
        sa.Column("camera_id", sa.Integer(), sa.ForeignKey("camera.id", ondelete="CASCADE"), nullable=False),
        sa.Column("corners", sa.JSON(), nullable=False),
        sa.Column("clear", sa.LargeBinary(4_000_000), nullable=False),
        sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False),
        sa.Column("set_at", UtcTime(), nullable=False),
        sa.Column("set_by", sa.String(length=120), nullable=False),
        sa.PrimaryKeyConstraint("camera_id"),
    )
    op.create_table(
        "watch_setting",
        sa.Column("scope", sa.String(length=8), nullable=False),
        sa.Column("subject", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("rule", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("scope", "subject"),
    )
    op.create_table(
        "suspicion",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), nullable=False),
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("camera_id", sa.Integer(), sa.ForeignKey("camera.id", ondelete="SET NULL"), nullable=True),
        sa.Column("frame_id", sa.BigInteger(), sa.ForeignKey("frame.id", ondelete="SET NULL"), nullable=True),
        sa.Column("mode", sa.String(length=12), nullable=False),
        sa.Column("object", sa.String(length=120), nullable=False),
        sa.Column("sentence", sa.String(length=300), nullable=False),
        sa.Column("probability", sa.Float(53), nullable=False),
        sa.Column("place", sa.JSON(), nullable=True),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("over_at", UtcTime(), nullable=True),
        sa.Column("followed", sa.String(length=10), nullable=False),
        sa.Column("problem", sa.String(length=300), nullable=False),
        sa.Column("right", sa.Boolean(), nullable=True),
        sa.Column("answered_by", sa.String(length=120), nullable=False),
        sa.Column("answered_at", UtcTime(), nullable=True),
        sa.Column("missed", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("suspicion_of_build", "suspicion", ["build_id"])
    op.create_index("suspicion_of_machine", "suspicion", ["machine_id", "at"])
    op.create_index("suspicion_of_camera", "suspicion", ["camera_id", "answered_at"])


def downgrade() -> None:
    op.drop_table("suspicion")
    op.drop_table("watch_setting")
    op.drop_table("bed_view")
