"""photos of machines, and which way their axes go"""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    photo = sa.ForeignKey("blob.sha256", name="machine_photo")
    op.add_column("machine", sa.Column("photo", sa.String(length=64), photo, nullable=True))
    op.add_column("machine", sa.Column("reversed_axes", sa.String(length=3), nullable=True))


def downgrade() -> None:
    op.drop_column("machine", "reversed_axes")
    op.drop_constraint("machine_photo", "machine", type_="foreignkey")
    op.drop_column("machine", "photo")
