"""films of builds, and how they are to be made"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "film",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), nullable=False),
        sa.Column("camera_id", sa.Integer(), sa.ForeignKey("camera.id", ondelete="SET NULL"), nullable=True),
        sa.Column("camera", sa.String(length=60), nullable=False),
        sa.Column("by_itself", sa.Boolean(), nullable=False),
        sa.Column("asked_by", sa.String(length=120), nullable=False),
        sa.Column("asked_at", UtcTime(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(length=8), nullable=False),
        sa.Column("problem", sa.String(length=300), nullable=False),
        sa.Column("made_at", UtcTime(), nullable=True),
        sa.Column("kept", sa.Boolean(), nullable=False),
        sa.Column("sha256", sa.String(length=64), nullable=True),
        sa.Column("poster", sa.String(length=64), nullable=True),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("seconds", sa.Float(53), nullable=False),
        sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False),
        sa.Column("marks", sa.JSON(), nullable=False),
        sa.Column("layers", sa.JSON(), nullable=False),
        sa.Column("own_build", sa.Integer(), sa.Computed("if(by_itself, build_id, null)", persisted=True)),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("own_build", name="one_film_of_its_own_a_build"),
    )
    op.create_index("film_of_build", "film", ["build_id"])
    for column in ("state", "sha256", "poster"):
        op.create_index(f"ix_film_{column}", "film", [column])
    op.create_table(
        "film_rule",
        sa.Column("scope", sa.String(length=8), nullable=False),
        sa.Column("subject", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("scope", "subject"),
    )


def downgrade() -> None:
    op.drop_table("film_rule")
    op.drop_table("film")
