"""builds are found by any name among a million, and the time that machines spent is read from an index alone"""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None

INDEXES = (
    ("build_verdict", "build", ["verdict"]),
    ("build_outcome", "build", ["outcome"]),
    ("build_scrap_reason", "build", ["scrap_reason"]),
    ("build_judged_by", "build", ["judged_by"]),
    ("build_reason", "build", ["reason"]),
    ("build_revision", "build", ["revision"]),
    ("build_has_note", "build", ["has_note"]),
    ("use_of_colour", "build_use", ["colour", "build_id"]),
    ("order_of_customer", "customer_order", ["customer"]),
    ("ledger_by_end", "ledger", ["machine_id", "end_at", "begin_at", "state", "build_id"]),
)
MONTHS = """
insert into ledger_month (machine_id, state, day, microseconds)
  select machine_id, state, date_format(day, '%Y-%m-01'), sum(microseconds) from ledger_day group by 1, 2, 3
"""
STOPPED = """
insert into build_stop (build_id, why)
  select distinct build_id, coalesce(nullif(substring_index(reason, ':', 1), ''), state)
    from ledger where state in ('paused', 'down') and build_id is not null
"""


def upgrade() -> None:
    noted = sa.Computed("if(note = '', null, 1)", persisted=True)
    op.add_column("build", sa.Column("has_note", sa.SmallInteger(), noted, nullable=True))
    for name, table, columns in INDEXES:
        op.create_index(name, table, columns)
    op.drop_index("ledger_of_machine", "ledger")
    op.create_table(
        "build_stop",
        sa.Column("build_id", sa.Integer(), nullable=False),
        sa.Column("why", sa.String(length=300), nullable=False),
        sa.ForeignKeyConstraint(["build_id"], ["build.id"]),
        sa.PrimaryKeyConstraint("build_id", "why"),
    )
    op.create_index("build_stopped_because", "build_stop", ["why", "build_id"])
    op.execute(STOPPED)
    op.create_table(
        "ledger_month",
        sa.Column("machine_id", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("microseconds", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["machine_id"], ["machine.id"]),
        sa.PrimaryKeyConstraint("machine_id", "state", "day"),
    )
    op.execute(MONTHS)


def downgrade() -> None:
    op.drop_table("ledger_month")
    op.drop_table("build_stop")
    op.create_index("ledger_of_machine", "ledger", ["machine_id", "end_at"])
    for name, table, _ in reversed(INDEXES):
        op.drop_index(name, table)
    op.drop_column("build", "has_note")
