"""reports that come by themselves, each kept as it was"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

from chronarch.records.base import UtcTime

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "report_plan",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("every", sa.String(length=8), nullable=False),
        sa.Column("hour", sa.Integer(), nullable=False),
        sa.Column("site", sa.String(length=60), nullable=False),
        sa.Column("group", sa.String(length=60), nullable=False),
        sa.Column("to", sa.JSON(), nullable=False),
        sa.Column("on", sa.Boolean(), nullable=False),
        sa.Column("made_by", sa.String(length=120), nullable=False),
        sa.Column("last_end", UtcTime(), nullable=False),
        sa.Column("dropped_at", UtcTime(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "kept_report",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("report_plan.id"), nullable=False),
        sa.Column("name", sa.String(length=160), nullable=False),
        sa.Column("begin_at", UtcTime(), nullable=False),
        sa.Column("end_at", UtcTime(), nullable=False),
        sa.Column("made_at", UtcTime(), nullable=False),
        sa.Column("asked_by", sa.String(length=120), nullable=False),
        sa.Column("page", mysql.MEDIUMTEXT(), nullable=False),
        sa.Column("words", mysql.MEDIUMTEXT(), nullable=False),
        sa.Column("rows", mysql.MEDIUMTEXT(), nullable=False),
        sa.Column("to", sa.JSON(), nullable=False),
        sa.Column("sent", sa.JSON(), nullable=False),
        sa.Column("trouble", sa.String(length=300), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("next_at", UtcTime(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("report_of_plan", "kept_report", ["plan_id", "id"])
    op.create_index("report_to_send", "kept_report", ["next_at"])


def downgrade() -> None:
    op.drop_table("kept_report")
    op.drop_table("report_plan")
