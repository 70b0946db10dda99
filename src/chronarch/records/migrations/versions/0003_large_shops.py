"""what large shops read: open jobs, sums of the ledger's days, what files say as columns"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

GOOD = "(select sum(coalesce(b.good_pieces, b.pieces)) from build b where b.job_id = job.id and b.verdict = 'good')"
READING = {
    "material": "varchar(60) as (json_value(figures, '$.declared.material'))",
    "nozzle_mm": "double as (json_value(figures, '$.declared.nozzle_mm'))",
    "refuses": "tinyint(1) as (json_search(figures, 'one', 'refuse', null, '$.findings[*].severity') is not null)",
}
"""What a reading says in its figures, as columns to search by."""


def upgrade() -> None:
    op.add_column("job", sa.Column("open", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.execute(f"update job set open = (not withdrawn and copies > from_stock + coalesce({GOOD}, 0))")
    op.create_index("job_open", "job", ["open", "line"])
    op.create_index("job_line", "job", ["line"])
    op.create_index("build_judged", "build", ["machine_id", "verdict", "ended_at", "grams"])
    op.create_index("build_ran", "build", ["machine_id", "started_at", "ended_at"])
    op.create_table(
        "ledger_day",
        sa.Column("machine_id", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("microseconds", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["machine_id"], ["machine.id"]),
        sa.PrimaryKeyConstraint("machine_id", "state", "day"),
    )
    op.execute(
        "insert into ledger_day (day, machine_id, state, microseconds)"
        " with recursive piece (machine_id, state, begin_at, end_at) as ("
        "select machine_id, state, begin_at, end_at from ledger where end_at < '9999-12-31' union all"
        " select machine_id, state, timestampadd(day, 1, date(begin_at)), end_at from piece"
        " where timestampadd(day, 1, date(begin_at)) < end_at)"
        " select date(begin_at), machine_id, state, sum(timestampdiff(microsecond, begin_at,"
        " least(end_at, timestampadd(day, 1, date(begin_at))))) from piece group by 1, 2, 3"
    )
    for name, kind in READING.items():
        op.execute(f"alter table content_reading add column {name} {kind} persistent")
    op.create_index("notice_seen", "notice", ["seen"])


def downgrade() -> None:
    for name in READING:
        op.drop_column("content_reading", name)
    op.drop_index("notice_seen", table_name="notice")
    op.drop_table("ledger_day")
    op.execute("create index if not exists build_machine on build (machine_id)")
    op.drop_index("build_ran", table_name="build")
    op.drop_index("build_judged", table_name="build")
    op.drop_index("job_line", table_name="job")
    op.drop_index("job_open", table_name="job")
    op.drop_column("job", "open")
