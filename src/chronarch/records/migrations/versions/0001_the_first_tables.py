"""the first tables"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None

BYTES = "utf8mb4_nopad_bin"
"""What identifies is compared byte by byte."""
SPOKEN = "utf8mb4_uca1400_as_ci"
"""Machines and models are called by their names: upper and lower case are alike there, accents are not."""


def upgrade() -> None:
    op.execute(f"alter database character set utf8mb4 collate {BYTES}")
    op.create_table(
        "access_key",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("secret_hash", sa.String(length=64), nullable=False),
        sa.Column("scope", sa.String(length=16), nullable=False),
        sa.Column("created_at", UtcTime(), nullable=False),
        sa.Column("revoked", sa.Boolean(), nullable=False),
        sa.Column("tender", sa.String(length=60), nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("secret_hash"),
    )
    op.create_table(
        "blob",
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("sha256"),
    )
    op.create_table(
        "model",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=60, collation=SPOKEN), nullable=False),
        sa.Column("spec", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "person",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("login", sa.String(length=120), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("password_hash", sa.String(length=255), nullable=False),
        sa.Column("scope", sa.String(length=16), nullable=False),
        sa.Column("here_at", UtcTime(), nullable=True),
        sa.Column("left_at", UtcTime(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("login"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "tender",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("epoch", sa.String(length=40), nullable=False),
        sa.Column("committed", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table("folder", sa.Column("path", sa.String(length=300), primary_key=True))
    op.create_table(
        "part",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(length=200), nullable=False, unique=True),
        sa.Column("notes", sa.Text(), nullable=False),
        sa.Column("shape", sa.JSON(), nullable=True),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.Column("added_by", sa.String(length=120), nullable=False),
    )
    op.create_table(
        "file",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("folder", sa.String(length=300), nullable=False),
        sa.Column("notes", sa.Text(), nullable=False),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.Column("part_id", sa.Integer(), sa.ForeignKey("part.id"), nullable=True),
        sa.Column("newest", sa.Integer(), nullable=False),
        sa.Column("pieces", sa.Integer(), nullable=False),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.Column("added_by", sa.String(length=120), nullable=False),
        sa.Column("binned_at", UtcTime(), nullable=True),
        sa.Column("binned_by", sa.String(length=120), nullable=False),
        sa.Column("emptied", sa.Boolean(), nullable=False),
        sa.Column("live_name", sa.String(length=200), sa.Computed("if(binned_at is null, name, null)", persisted=True)),
        sa.UniqueConstraint("live_name", name="one_file_a_name"),
    )
    op.create_table(
        "revision",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("file_id", sa.Integer(), sa.ForeignKey("file.id"), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("sha256", sa.String(length=64), sa.ForeignKey("blob.sha256"), nullable=False),
        sa.Column("how", sa.String(length=300), nullable=False),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.Column("added_by", sa.String(length=120), nullable=False),
        sa.UniqueConstraint("file_id", "number", name="one_revision_a_number"),
    )
    op.create_table(
        "content_reading",
        sa.Column("sha256", sa.String(length=64), sa.ForeignKey("blob.sha256"), primary_key=True),
        sa.Column("model", sa.String(length=60), primary_key=True),
        sa.Column("planned_s", sa.Float(precision=53), nullable=False),
        sa.Column("figures", sa.JSON(), nullable=False),
        sa.Column("plan", sa.JSON(), nullable=False),
    )
    op.create_table(
        "arrival",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("state", sa.String(length=10), nullable=False),
        sa.Column("problem", sa.Text(), nullable=False),
        sa.Column("wish", sa.JSON(), nullable=False),
        sa.Column("file_id", sa.Integer(), sa.ForeignKey("file.id"), nullable=True),
        sa.Column("job_id", sa.Integer(), nullable=True),
        sa.Column("new", sa.Boolean(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.Column("added_by", sa.String(length=120), nullable=False),
    )
    op.create_index("arrival_state", "arrival", ["state"])
    op.create_table(
        "overruling",
        sa.Column("sha256", sa.String(length=64), sa.ForeignKey("blob.sha256"), primary_key=True),
        sa.Column("model", sa.String(length=60), primary_key=True),
        sa.Column("rule", sa.String(length=40), primary_key=True),
        sa.Column("reason", sa.String(length=300), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("by", sa.String(length=120), nullable=False),
    )
    op.create_table(
        "answered",
        sa.Column("who", sa.String(length=120), primary_key=True),
        sa.Column("key", sa.String(length=120), primary_key=True),
        sa.Column("request", sa.String(length=64), nullable=False),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
    )
    op.create_table(
        "machine",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=60, collation=SPOKEN), nullable=False),
        sa.Column("model_id", sa.Integer(), nullable=False),
        sa.Column("tender_id", sa.Integer(), nullable=False),
        sa.Column("link", sa.String(length=300), nullable=False),
        sa.Column("device", sa.String(length=400), nullable=False, unique=True),
        sa.Column("camera", sa.String(length=300), nullable=False),
        sa.Column("intake", sa.String(length=10), nullable=False),
        sa.Column("tools", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("since", UtcTime(), nullable=False),
        sa.Column("reason", sa.String(length=300), nullable=False),
        sa.Column("site", sa.String(length=60), nullable=False),
        sa.Column("place", sa.String(length=40), nullable=False),
        sa.Column("pools", sa.JSON(), nullable=False),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.Column("releases_left", sa.Integer(), nullable=False),
        sa.Column("release_stuck", sa.String(length=300), nullable=False),
        sa.ForeignKeyConstraint(
            ["model_id"],
            ["model.id"],
        ),
        sa.ForeignKeyConstraint(
            ["tender_id"],
            ["tender.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "session",
        sa.Column("token_hash", sa.String(length=64), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("csrf", sa.String(length=64), nullable=False),
        sa.Column("expires_at", UtcTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["person_id"],
            ["person.id"],
        ),
        sa.PrimaryKeyConstraint("token_hash"),
    )
    op.create_table(
        "customer_order",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("customer", sa.String(length=120), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("due_at", UtcTime(), nullable=True),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.Column("cancelled", sa.Boolean(), nullable=False),
        sa.Column("finished_at", UtcTime(), nullable=True),
        sa.Column("repeats", sa.Integer(), nullable=True),
        sa.Column("created_at", UtcTime(), nullable=False),
        sa.Column("created_by", sa.String(length=120), nullable=False),
    )
    op.create_table(
        "stock",
        sa.Column("what", sa.String(length=40), primary_key=True),
        sa.Column("material", sa.String(length=60), primary_key=True),
        sa.Column("colour", sa.String(length=60), primary_key=True),
        sa.Column("pieces", sa.Integer(), nullable=False),
        sa.CheckConstraint("pieces >= 0", name="stock_is_never_less_than_none"),
    )
    op.create_table(
        "spool",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("material", sa.String(length=60), nullable=False),
        sa.Column("colour", sa.String(length=60), nullable=False),
        sa.Column("grams_full", sa.Float(precision=53), nullable=False),
        sa.Column("grams_left", sa.Float(precision=53), nullable=False),
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=True),
        sa.Column("tool", sa.Integer(), nullable=True),
        sa.Column("place", sa.String(length=60), nullable=False),
        sa.Column("finished", sa.Boolean(), nullable=False),
        sa.Column("added_at", UtcTime(), nullable=False),
        sa.UniqueConstraint("machine_id", "tool", name="one_spool_a_tool"),
    )
    op.create_table(
        "spool_change",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("spool_id", sa.Integer(), sa.ForeignKey("spool.id"), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("grams", sa.Float(precision=53), nullable=False),
        sa.Column("text", sa.String(length=300), nullable=False),
        sa.Column("by", sa.String(length=120), nullable=False),
    )
    op.create_index("change_of_spool", "spool_change", ["spool_id"])
    op.create_table(
        "site",
        sa.Column("name", sa.String(length=60), primary_key=True),
        sa.Column("hours", sa.JSON(), nullable=False),
    )
    op.create_table(
        "setting",
        sa.Column("name", sa.String(length=40), primary_key=True),
        sa.Column("value", sa.JSON(), nullable=False),
    )
    op.create_table(
        "line",
        sa.Column("name", sa.String(length=80), primary_key=True),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("by", sa.String(length=120), nullable=False),
        sa.Column("text", sa.String(length=300), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
    )
    op.create_table(
        "helper_link",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("site", sa.String(length=60), nullable=False),
        sa.Column("token_hash", sa.String(length=64), nullable=False, unique=True),
        sa.Column("created_by", sa.String(length=120), nullable=False),
        sa.Column("created_at", UtcTime(), nullable=False),
        sa.Column("expires_at", UtcTime(), nullable=False),
        sa.Column("revoked", sa.Boolean(), nullable=False),
    )
    op.create_table(
        "upkeep_window",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("begin_at", UtcTime(), nullable=False),
        sa.Column("end_at", UtcTime(), nullable=False),
        sa.Column("text", sa.String(length=200), nullable=False),
        sa.CheckConstraint("end_at > begin_at", name="upkeep_ends_after_it_begins"),
    )
    op.create_table(
        "job",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("file_id", sa.Integer(), nullable=True),
        sa.Column("part_id", sa.Integer(), sa.ForeignKey("part.id"), nullable=True),
        sa.Column("pinned", sa.Integer(), nullable=True),
        sa.Column("copies", sa.Integer(), nullable=False),
        sa.Column("held", sa.Boolean(), nullable=False),
        sa.Column("withdrawn", sa.Boolean(), nullable=False),
        sa.Column("requirement", sa.JSON(), nullable=False),
        sa.Column("order_id", sa.Integer(), sa.ForeignKey("customer_order.id"), nullable=True),
        sa.Column("from_stock", sa.Integer(), nullable=False),
        sa.Column("priority", sa.Integer(), nullable=False),
        sa.Column("due_at", UtcTime(), nullable=True),
        sa.Column("not_before", UtcTime(), nullable=True),
        sa.Column("line", sa.Float(precision=53), nullable=False),
        sa.Column("top", sa.Boolean(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.Column("created_at", UtcTime(), nullable=False),
        sa.Column("created_by", sa.String(length=120), nullable=False),
        sa.ForeignKeyConstraint(
            ["file_id"],
            ["file.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.CheckConstraint("(file_id is null) <> (part_id is null)", name="a_job_is_for_a_file_or_a_part"),
    )
    op.create_index("job_of_order", "job", ["order_id"])
    op.create_table(
        "reading",
        sa.Column("machine_id", sa.Integer(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("nozzle_c", sa.Float(), nullable=True),
        sa.Column("nozzle_asked_c", sa.Float(), nullable=True),
        sa.Column("bed_c", sa.Float(), nullable=True),
        sa.Column("bed_asked_c", sa.Float(), nullable=True),
        sa.Column("chamber_c", sa.Float(), nullable=True),
        sa.Column("chamber_asked_c", sa.Float(), nullable=True),
        sa.ForeignKeyConstraint(
            ["machine_id"],
            ["machine.id"],
        ),
        sa.PrimaryKeyConstraint("machine_id", "at"),
    )
    op.create_table(
        "build",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("job_id", sa.Integer(), nullable=False),
        sa.Column("copy_number", sa.Integer(), nullable=False),
        sa.Column("machine_id", sa.Integer(), nullable=False),
        sa.Column("file_id", sa.Integer(), sa.ForeignKey("file.id"), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("outcome", sa.String(length=12), nullable=True),
        sa.Column("reason", sa.String(length=300), nullable=False),
        sa.Column("claimed_at", UtcTime(), nullable=False),
        sa.Column("started_at", UtcTime(), nullable=True),
        sa.Column("ended_at", UtcTime(), nullable=True),
        sa.Column("cleared_at", UtcTime(), nullable=True),
        sa.Column("verdict", sa.String(length=8), nullable=True),
        sa.Column("scrap_reason", sa.String(length=300), nullable=False),
        sa.Column("judged_by", sa.String(length=120), nullable=False),
        sa.Column("pieces", sa.Integer(), nullable=False),
        sa.Column("good_pieces", sa.Integer(), nullable=True),
        sa.Column("let_go", sa.Boolean(), nullable=False),
        sa.Column("photo", sa.String(length=64), sa.ForeignKey("blob.sha256"), nullable=True),
        sa.Column("commands", sa.BigInteger(), nullable=False),
        sa.Column("acknowledged", sa.BigInteger(), nullable=False),
        sa.Column("planned_s", sa.Float(precision=53), nullable=False),
        sa.Column("grams", sa.Float(precision=53), nullable=False),
        sa.Column("skips", sa.JSON(), nullable=False),
        sa.Column("fed_sha256", sa.String(length=64), sa.ForeignKey("blob.sha256"), nullable=True),
        sa.Column("log_bytes", sa.BigInteger(), nullable=True),
        sa.Column(
            "open_machine",
            sa.Integer(),
            sa.Computed("if(cleared_at is null, machine_id, null)", persisted=True),
            nullable=True,
        ),
        sa.Column(
            "live_copy",
            sa.Integer(),
            sa.Computed("if(verdict = 'scrap', null, copy_number)", persisted=True),
            nullable=True,
        ),
        sa.ForeignKeyConstraint(
            ["job_id"],
            ["job.id"],
        ),
        sa.ForeignKeyConstraint(
            ["machine_id"],
            ["machine.id"],
        ),
        sa.ForeignKeyConstraint(
            ["sha256"],
            ["blob.sha256"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("job_id", "live_copy", name="one_build_a_copy"),
        sa.UniqueConstraint("open_machine", name="one_open_build_a_machine"),
    )
    op.create_index("build_ended", "build", ["ended_at"], unique=False)
    op.create_index("build_of_file", "build", ["file_id"], unique=False)
    op.create_table(
        "build_change",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("text", sa.String(length=300), nullable=False),
        sa.Column("by", sa.String(length=120), nullable=False),
    )
    op.create_index("change_of_build", "build_change", ["build_id"], unique=False)
    op.create_table(
        "level_map",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), primary_key=True),
        sa.Column("at", UtcTime(), primary_key=True),
        sa.Column("rows", sa.JSON(), nullable=False),
    )
    op.create_table(
        "ledger",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("machine_id", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=12), nullable=False),
        sa.Column("begin_at", UtcTime(), nullable=False),
        sa.Column("end_at", UtcTime(), nullable=False),
        sa.Column("build_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["build_id"],
            ["build.id"],
        ),
        sa.ForeignKeyConstraint(
            ["machine_id"],
            ["machine.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ledger_of_machine", "ledger", ["machine_id", "end_at"], unique=False)
    op.create_table(
        "notice",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("machine_id", sa.Integer(), nullable=True),
        sa.Column("build_id", sa.Integer(), nullable=True),
        sa.Column("severity", sa.String(length=8), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("seen", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(
            ["build_id"],
            ["build.id"],
        ),
        sa.ForeignKeyConstraint(
            ["machine_id"],
            ["machine.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.execute(
        "alter table ledger add period for during (begin_at, end_at),"
        " add unique no_overlap (machine_id, during without overlaps)"
    )


def downgrade() -> None:
    op.drop_table("notice")
    op.drop_index("ledger_of_machine", table_name="ledger")
    op.drop_table("ledger")
    op.drop_table("level_map")
    op.drop_table("build_change")
    op.drop_index("build_ended", table_name="build")
    op.drop_table("build")
    op.drop_table("reading")
    op.drop_table("job")
    for table in ("spool_change", "spool", "stock", "site", "setting", "line", "helper_link", "upkeep_window"):
        op.drop_table(table)
    op.drop_table("customer_order")
    op.drop_table("session")
    op.drop_table("machine")
    for table in ("answered", "overruling", "arrival", "content_reading", "revision", "file", "part", "folder"):
        op.drop_table(table)
    op.drop_table("tender")
    op.drop_table("person")
    op.drop_table("model")
    op.drop_table("blob")
    op.drop_table("access_key")
