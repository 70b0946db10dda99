"""notices that open, are taken and close; who hears of them, and over which channels"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

OPEN_CAUSE = "if(closed_at is null and cause <> '', cause, null)"
REFERS = {
    "order_id": ("customer_order", sa.Integer()), "job_id": ("job", sa.Integer()), "spool_id": ("spool", sa.Integer()),
    "suspicion_id": ("suspicion", sa.Integer()), "person_id": ("person", sa.Integer()),
    "taker_id": ("person", sa.Integer()),
}  # fmt: skip
TEXTS = {"kind": 20, "gravity": 8, "cause": 120, "tender": 60, "taken_by": 120, "closed_by": 120}


def upgrade() -> None:
    for name, size in TEXTS.items():
        op.add_column("notice", sa.Column(name, sa.String(length=size), nullable=False, server_default=""))
    op.add_column("notice", sa.Column("count", sa.Integer(), nullable=True))
    for name, (table, kind) in REFERS.items():
        op.add_column(
            "notice", sa.Column(name, kind, sa.ForeignKey(f"{table}.id", name=f"notice_{name}"), nullable=True)
        )
    op.add_column(
        "notice",
        sa.Column(
            "frame_id",
            sa.BigInteger(),
            sa.ForeignKey("frame.id", ondelete="SET NULL", name="notice_frame_id"),
            nullable=True,
        ),
    )
    op.add_column("notice", sa.Column("taken_at", UtcTime(), nullable=True))
    op.add_column("notice", sa.Column("closed_at", UtcTime(), nullable=True))
    op.add_column("notice", sa.Column("routed", sa.Boolean(), nullable=False, server_default="0"))
    op.execute(
        "update notice set kind = if(severity = 'alarm', 'machine-asks', 'build-ended'),"
        " gravity = if(severity = 'alarm', 'act', 'note'), closed_at = at, routed = 1"
    )
    for name in TEXTS:
        op.alter_column(
            "notice", name, existing_type=sa.String(length=TEXTS[name]), nullable=False, server_default=None
        )
    op.alter_column("notice", "routed", existing_type=sa.Boolean(), nullable=False, server_default=None)
    op.drop_index("notice_seen", "notice")
    op.drop_column("notice", "seen")
    op.drop_column("notice", "severity")
    op.add_column(
        "notice", sa.Column("open_cause", sa.String(length=120), sa.Computed(OPEN_CAUSE, persisted=True), nullable=True)
    )
    op.create_unique_constraint("one_open_notice_a_cause", "notice", ["open_cause"])
    for name, columns in {
        "notice_cause": ["cause"], "notice_open": ["closed_at", "id"], "notice_routed": ["routed"],
        "notice_at": ["at"],
    }.items():  # fmt: skip
        op.create_index(name, "notice", columns)
    op.add_column("person", sa.Column("notices_read", sa.Integer(), nullable=False, server_default="0"))
    op.alter_column("person", "notices_read", existing_type=sa.Integer(), nullable=False, server_default=None)
    op.create_table(
        "notice_rule",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), nullable=True),
        sa.Column("rule", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_notice_rule_person_id", "notice_rule", ["person_id"])
    op.create_table(
        "channel",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), nullable=True),
        sa.Column("kind", sa.String(length=10), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("shown", sa.String(length=500), nullable=False),
        sa.Column("access", sa.LargeBinary(8000), nullable=False),
        sa.Column("on", sa.Boolean(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("next_at", UtcTime(), nullable=True),
        sa.Column("failing_since", UtcTime(), nullable=True),
        sa.Column("problem", sa.String(length=300), nullable=False),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_channel_person_id", "channel", ["person_id"])
    op.create_table(
        "delivery",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("notice_id", sa.Integer(), sa.ForeignKey("notice.id"), nullable=False),
        sa.Column("channel_id", sa.Integer(), sa.ForeignKey("channel.id", ondelete="CASCADE"), nullable=False),
        sa.Column("what", sa.String(length=8), nullable=False),
        sa.Column("due_at", UtcTime(), nullable=False),
        sa.Column("state", sa.String(length=8), nullable=False),
        sa.Column("message", sa.String(length=36), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("repeated", sa.Boolean(), nullable=False),
        sa.Column("first_try_at", UtcTime(), nullable=True),
        sa.Column("sent_at", UtcTime(), nullable=True),
        sa.Column("answer", sa.String(length=300), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("notice_id", "channel_id", "what", name="told_once_a_channel"),
    )
    op.create_index("delivery_waiting", "delivery", ["state", "channel_id", "due_at"])
    op.create_index("delivery_sent", "delivery", ["channel_id", "sent_at"])
    op.create_index("delivery_due", "delivery", ["due_at"])
    op.create_table(
        "delivery_try",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("channel_id", sa.Integer(), sa.ForeignKey("channel.id", ondelete="CASCADE"), nullable=False),
        sa.Column("message", sa.String(length=36), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("notices", sa.Integer(), nullable=False),
        sa.Column("subject", sa.String(length=200), nullable=False),
        sa.Column("good", sa.Boolean(), nullable=False),
        sa.Column("answer", sa.String(length=300), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("try_of_channel", "delivery_try", ["channel_id", "id"])
    op.create_table(
        "act_use",
        sa.Column("notice_id", sa.Integer(), sa.ForeignKey("notice.id"), autoincrement=False, nullable=False),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), autoincrement=False, nullable=False),
        sa.Column("act", sa.String(length=12), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("notice_id", "person_id", "act"),
    )
    op.create_table(
        "sign_in_place",
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), autoincrement=False, nullable=False),
        sa.Column("place", sa.String(length=60), nullable=False),
        sa.Column("last_at", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("person_id", "place"),
    )


def downgrade() -> None:
    for table in ("sign_in_place", "act_use", "delivery_try", "delivery", "channel", "notice_rule"):
        op.drop_table(table)
    op.drop_column("person", "notices_read")
    for name in ("notice_cause", "notice_open", "notice_routed", "notice_at"):
        op.drop_index(name, "notice")
    op.drop_constraint("one_open_notice_a_cause", "notice", type_="unique")
    op.drop_column("notice", "open_cause")
    for name in (*REFERS, "frame_id"):
        op.drop_constraint(f"notice_{name}", "notice", type_="foreignkey")
        op.drop_column("notice", name)
    for name in (*TEXTS, "count", "taken_at", "closed_at", "routed"):
        op.drop_column("notice", name)
    op.add_column("notice", sa.Column("severity", sa.String(length=8), nullable=False, server_default="note"))
    op.add_column("notice", sa.Column("seen", sa.Boolean(), nullable=False, server_default="1"))
    op.create_index("notice_seen", "notice", ["seen"])
