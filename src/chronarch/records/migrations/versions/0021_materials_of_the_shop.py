"""materials of the shop's own"""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

SPOKEN = "utf8mb4_uca1400_as_ci"
"""PLA is pla."""


def upgrade() -> None:
    op.create_table(
        "material",
        sa.Column("name", sa.String(length=60, collation=SPOKEN), primary_key=True),
        *(
            sa.Column(name, sa.Float(53), nullable=False)
            for name in ("density_g_cm3", "nozzle_c", "bed_c", "diameter_mm")
        ),
    )


def downgrade() -> None:
    op.drop_table("material")
