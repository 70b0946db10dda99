"""which build took grams from a spool"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    build = sa.Column("build_id", sa.Integer(), sa.ForeignKey("build.id", name="spool_change_build"), nullable=True)
    op.add_column("spool_change", build)
    op.execute(
        "update spool_change join build on build.id = cast(substring_index(substring(text, 7), ' ', 1) as unsigned)"
        " set spool_change.build_id = build.id where text regexp '^build [0-9]+ on '"
    )
    op.create_unique_constraint("one_use_a_build", "spool_change", ["build_id", "spool_id"])


def downgrade() -> None:
    op.drop_constraint("spool_change_build", "spool_change", type_="foreignkey")
    op.drop_constraint("one_use_a_build", "spool_change", type_="unique")
    op.drop_column("spool_change", "build_id")
