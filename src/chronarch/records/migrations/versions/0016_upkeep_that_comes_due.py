"""upkeep that comes due, what was done and measured; firmware and settings that machines tell"""

import sqlalchemy as sa
from alembic import op

from chronarch.records.base import UtcTime

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "upkeep_task",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("model_id", sa.Integer(), sa.ForeignKey("model.id"), nullable=True),
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=True),
        sa.Column("rules", sa.JSON(), nullable=False),
        sa.Column("minutes", sa.Float(53), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("parts", sa.JSON(), nullable=False),
        sa.Column("pictures", sa.JSON(), nullable=False),
        sa.Column("part", sa.String(length=60), nullable=False),
        sa.Column("blocks", sa.String(length=8), nullable=False),
        sa.Column("nominal", sa.Float(53), nullable=True),
        sa.Column("tolerance", sa.Float(53), nullable=True),
        sa.Column("unit", sa.String(length=20), nullable=False),
        sa.Column("source", sa.String(length=12), nullable=False),
        sa.Column("since", UtcTime(), nullable=False),
        sa.Column("made_by", sa.String(length=120), nullable=False),
        sa.Column("dropped_at", UtcTime(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "upkeep_done",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), nullable=False),
        sa.Column("task_id", sa.Integer(), sa.ForeignKey("upkeep_task.id"), nullable=True),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("by", sa.String(length=120), nullable=False),
        sa.Column("minutes", sa.Float(53), nullable=True),
        sa.Column("note", sa.String(length=2000), nullable=False),
        sa.Column("parts", sa.JSON(), nullable=False),
        sa.Column("part", sa.String(length=60), nullable=False),
        sa.Column("worn", sa.Boolean(), nullable=False),
        sa.Column("value", sa.Float(53), nullable=True),
        sa.Column("photo", sa.String(length=64), sa.ForeignKey("blob.sha256"), nullable=True),
        sa.Column("odometer", sa.JSON(), nullable=False),
        sa.Column("since_at", UtcTime(), nullable=True),
        sa.Column("late", sa.Float(53), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("upkeep_of_machine", "upkeep_done", ["machine_id", "at"])
    op.create_index("upkeep_of_task", "upkeep_done", ["task_id", "machine_id", "at"])
    op.create_index("part_of_machine", "upkeep_done", ["part", "machine_id", "at"])
    op.create_table(
        "upkeep_mark",
        sa.Column("task_id", sa.Integer(), sa.ForeignKey("upkeep_task.id"), autoincrement=False, nullable=False),
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), autoincrement=False, nullable=False),
        sa.Column("since", UtcTime(), nullable=False),
        sa.Column("odometer", sa.JSON(), nullable=False),
        sa.Column("faults", sa.Integer(), nullable=False),
        sa.Column("looked_to", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("task_id", "machine_id"),
    )
    op.create_table(
        "machine_firmware",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), autoincrement=False, nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("firmware", sa.String(length=200), nullable=False),
        sa.Column("words", sa.JSON(), nullable=False),
        sa.Column("capabilities", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("machine_id", "at"),
    )
    op.create_table(
        "machine_settings",
        sa.Column("machine_id", sa.Integer(), sa.ForeignKey("machine.id"), autoincrement=False, nullable=False),
        sa.Column("at", UtcTime(), nullable=False),
        sa.Column("told_at", UtcTime(), nullable=False),
        sa.Column("values", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("machine_id", "at"),
    )
    op.create_table(
        "wanted_firmware",
        sa.Column("model_id", sa.Integer(), sa.ForeignKey("model.id"), autoincrement=False, nullable=False),
        sa.Column("firmware", sa.String(length=200), nullable=False),
        sa.Column("set_by", sa.String(length=120), nullable=False),
        sa.Column("set_at", UtcTime(), nullable=False),
        sa.PrimaryKeyConstraint("model_id"),
    )
    op.add_column("upkeep_window", sa.Column("task_id", sa.Integer(), nullable=True))
    op.create_foreign_key("window_of_task", "upkeep_window", "upkeep_task", ["task_id"], ["id"])


def downgrade() -> None:
    op.drop_constraint("window_of_task", "upkeep_window", type_="foreignkey")
    op.drop_column("upkeep_window", "task_id")
    for table in ("wanted_firmware", "machine_settings", "machine_firmware"):
        op.drop_table(table)
    op.drop_table("upkeep_mark")
    op.drop_table("upkeep_done")
    op.drop_table("upkeep_task")
