"""what builds were made with, notes and tags, how long they and their layers took, and views that are saved"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

TOOK = "timestampdiff(second, started_at, ended_at)"
INDEXES = {"build_took": "took_s", "build_grams": "grams", "build_began": "started_at"}


def upgrade() -> None:
    op.add_column("build", sa.Column("note", sa.String(length=2000), nullable=False, server_default=""))
    op.alter_column("build", "note", existing_type=sa.String(length=2000), nullable=False, server_default=None)
    op.add_column("build", sa.Column("took_s", sa.BigInteger(), sa.Computed(TOOK, persisted=True), nullable=True))
    for name, column in INDEXES.items():
        op.create_index(name, "build", [column])
    op.add_column("ledger", sa.Column("reason", sa.String(length=300), nullable=False, server_default=""))
    op.alter_column("ledger", "reason", existing_type=sa.String(length=300), nullable=False, server_default=None)
    op.add_column("machine", sa.Column("ledger_rolled_to", UtcTime(), nullable=True))
    op.create_table(
        "build_tag",
        sa.Column("tag", sa.String(length=60), nullable=False),
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), nullable=False),
        sa.PrimaryKeyConstraint("tag", "build_id"),
    )
    op.create_index("tag_of_build", "build_tag", ["build_id"])
    op.create_table(
        "build_use",
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), nullable=False),
        sa.Column("tool", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("material", sa.String(length=60), nullable=False),
        sa.Column("colour", sa.String(length=60), nullable=False),
        sa.Column("nozzle_mm", sa.Float(53), nullable=False),
        sa.Column("spool_id", sa.Integer(), sa.ForeignKey("spool.id"), nullable=True),
        sa.Column("grams", sa.Float(53), nullable=False),
        sa.PrimaryKeyConstraint("build_id", "tool"),
    )
    op.create_table(
        "build_layers",
        sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id"), autoincrement=False, nullable=False),
        sa.Column("seconds", sa.LargeBinary(1_000_000), nullable=False),
        sa.PrimaryKeyConstraint("build_id"),
    )
    op.create_table(
        "saved_view",
        sa.Column("page", sa.String(length=16), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("asked", sa.JSON(), nullable=False),
        sa.Column("saved_by", sa.String(length=120), nullable=False),
        sa.Column("saved_at", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("page", "name"),
    )
    op.create_index("use_of_material", "build_use", ["material", "colour", "build_id"])
    op.create_index("use_of_spool", "build_use", ["spool_id", "build_id"])
    op.create_index("use_of_nozzle", "build_use", ["nozzle_mm", "build_id"])


def downgrade() -> None:
    op.drop_table("saved_view")
    op.drop_table("build_layers")
    op.drop_table("build_use")
    op.drop_table("build_tag")
    for name in INDEXES:
        op.drop_index(name, "build")
    op.drop_column("machine", "ledger_rolled_to")
    op.drop_column("ledger", "reason")
    op.drop_column("build", "took_s")
    op.drop_column("build", "note")
