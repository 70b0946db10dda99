"""where the head was in a frame of a bed; what is suspected of a bed before a build"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("head_mm", "tip"):
        op.add_column("bed_view", sa.Column(name, sa.JSON(), nullable=True))
    op.add_column("suspicion", sa.Column("head_mm", sa.JSON(), nullable=True))
    op.alter_column("suspicion", "build_id", existing_type=sa.Integer(), nullable=True)


def downgrade() -> None:
    op.drop_column("suspicion", "head_mm")
    op.execute("update notice set suspicion_id = null where suspicion_id in"
               " (select id from suspicion where build_id is null)")  # fmt: skip
    op.execute("delete from suspicion where build_id is null")
    op.alter_column("suspicion", "build_id", existing_type=sa.Integer(), nullable=False)
    for name in ("head_mm", "tip"):
        op.drop_column("bed_view", name)
