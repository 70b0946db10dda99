"""second factors, recovery codes, and when somebody last showed who they are"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

TIME = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.add_column("session", sa.Column("second", sa.Boolean(), nullable=False, server_default="0"))
    op.add_column("session", sa.Column("shown_at", TIME, nullable=False, server_default="1970-01-01"))
    op.create_table("guarded_role", sa.Column("role", sa.String(length=40), primary_key=True))
    op.create_table(
        "second_factor",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), nullable=False, index=True),
        sa.Column("kind", sa.String(length=8), nullable=False),
        sa.Column("name", sa.String(length=60), nullable=False),
        sa.Column("secret", sa.LargeBinary(length=2000), nullable=False),
        sa.Column("credential", sa.LargeBinary(length=1023)),
        sa.Column("host", sa.String(length=253), nullable=False),
        sa.Column("counted", sa.BigInteger(), nullable=False),
        sa.Column("confirmed", sa.Boolean(), nullable=False),
        sa.Column("added_at", TIME, nullable=False),
        sa.Column("last_at", TIME),
    )
    op.create_table(
        "recovery_code",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), nullable=False, index=True),
        sa.Column("code_hash", sa.String(length=64), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("recovery_code")
    op.drop_table("second_factor")
    op.drop_table("guarded_role")
    op.drop_column("session", "shown_at")
    op.drop_column("session", "second")
