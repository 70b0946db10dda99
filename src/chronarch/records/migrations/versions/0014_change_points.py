"""what has changed beyond chance, and the passes that looked for it"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

FIGURES = ("before", "after", "size", "low", "high", "chance")


def upgrade() -> None:
    op.create_table(
        "change_point_pass",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("begin_at", UtcTime(), nullable=False),
        sa.Column("series", sa.Integer(), nullable=False),
        sa.Column("named", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "change_point",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(length=12), nullable=False),
        sa.Column("subject", sa.String(length=120), nullable=False),
        sa.Column("since", UtcTime(), nullable=False),
        *(sa.Column(name, sa.Float(53), nullable=False) for name in FIGURES),
        sa.Column("counted_before", sa.Integer(), nullable=False),
        sa.Column("counted_after", sa.Integer(), nullable=False),
        sa.Column("found_at", UtcTime(), nullable=False),
        sa.Column("over_at", UtcTime(), nullable=True),
        sa.Column("seen_by", sa.String(length=120), nullable=False),
        sa.Column("seen_at", UtcTime(), nullable=True),
        sa.Column("note", sa.String(length=300), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("change_point_of", "change_point", ["over_at", "kind", "subject"])


def downgrade() -> None:
    op.drop_table("change_point")
    op.drop_table("change_point_pass")
