"""prices that hold from a time on, the price of a spool, and what builds cost"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

PARTS = ("material", "energy", "machine", "hands", "overhead")


def upgrade() -> None:
    op.add_column("spool", sa.Column("price", sa.Numeric(14, 4), nullable=True))
    op.create_table(
        "cost_rate",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(length=10), nullable=False),
        sa.Column("subject", sa.String(length=60), nullable=False),
        sa.Column("since", UtcTime(), nullable=False),
        sa.Column("price", sa.Numeric(14, 6), nullable=False),
        sa.Column("hours", sa.JSON(), nullable=False),
        sa.Column("made_of", sa.JSON(), nullable=True),
        sa.Column("set_by", sa.String(length=120), nullable=False),
        sa.Column("set_at", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_unique_constraint("one_price_at_a_time", "cost_rate", ["kind", "subject", "since"])
    op.create_table(
        "build_cost",
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), autoincrement=False, nullable=False),
        *(sa.Column(part, sa.Numeric(14, 4), nullable=True) for part in PARTS),
        sa.Column("total", sa.Numeric(14, 4), nullable=False),
        sa.PrimaryKeyConstraint("build_id"),
    )
    op.create_table(
        "cost_work",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("done_to", sa.Integer(), nullable=False),
        sa.Column("again_since", UtcTime(), nullable=True),
        sa.Column("again_after", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.execute("insert into cost_work (id, done_to, again_after) values (1, 0, 0)")


def downgrade() -> None:
    op.drop_table("cost_work")
    op.drop_table("build_cost")
    op.drop_table("cost_rate")
    op.drop_column("spool", "price")
