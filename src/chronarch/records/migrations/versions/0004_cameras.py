"""cameras are things of their own, and frames are kept"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

SPOKEN = "utf8mb4_uca1400_as_ci"


def upgrade() -> None:
    op.drop_column("machine", "camera")
    op.create_table(
        "camera",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=60, collation=SPOKEN), nullable=False),
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=True),
        sa.Column("site", sa.String(length=60), nullable=False),
        sa.Column("place", sa.String(length=60), nullable=False),
        sa.Column("tender_id", sa.Integer(), sa.ForeignKey("tender.id"), nullable=False),
        sa.Column("shown", sa.String(length=500), nullable=False),
        sa.Column("login", sa.String(length=120), nullable=False),
        sa.Column("has_password", sa.Boolean(), nullable=False),
        sa.Column("access", sa.LargeBinary(4000), nullable=False),
        sa.Column("first", sa.Boolean(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.Column(
            "stands_for", sa.Integer(), sa.Computed("if(first, machine_id, null)", persisted=True), nullable=True
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
        sa.UniqueConstraint("stands_for", name="one_first_camera_a_machine"),
    )
    op.create_index("ix_camera_machine_id", "camera", ["machine_id"])
    op.create_table(
        "frame",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("camera_id", sa.Integer(), sa.ForeignKey("camera.id", ondelete="SET NULL"), nullable=True),
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), nullable=True),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("why", sa.String(length=10), nullable=False),
        sa.Column("layer", sa.Integer(), nullable=False),
        sa.Column("command", sa.BigInteger(), nullable=False),
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("keep_until", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("frame_of_camera", "frame", ["camera_id", "at"])
    op.create_index("frame_of_build", "frame", ["build_id", "at"])
    op.create_index("ix_frame_sha256", "frame", ["sha256"])
    op.create_index("ix_frame_keep_until", "frame", ["keep_until"])


def downgrade() -> None:
    op.drop_table("frame")
    op.drop_table("camera")
    op.add_column("machine", sa.Column("camera", sa.String(length=300), nullable=False, server_default=""))
