"""photos of machines"""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("machine", sa.Column("photo", sa.String(length=64), sa.ForeignKey("blob.sha256"), nullable=True))


def downgrade() -> None:
    raise NotImplementedError("records go forward only; restore the copy that was taken before")
