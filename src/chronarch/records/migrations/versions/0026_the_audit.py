"""the audit: who did what, sealed entry by entry"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

TIME = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "audit_entry",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("number", sa.BigInteger(), unique=True),
        sa.Column("at", TIME, nullable=False, index=True),
        sa.Column("who", sa.String(length=60), nullable=False, index=True),
        sa.Column("act", sa.String(length=120), nullable=False),
        sa.Column("status", sa.SmallInteger(), nullable=False),
        sa.Column("origin", sa.String(length=1000)),
        sa.Column("told", mysql.MEDIUMTEXT()),
        sa.Column("origin_digest", sa.String(length=64), nullable=False),
        sa.Column("told_digest", sa.String(length=64), nullable=False),
        sa.Column("seal", sa.String(length=64), nullable=False),
    )
    chain = op.create_table(
        "audit_chain",
        sa.Column("id", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("first", sa.BigInteger(), nullable=False),
        sa.Column("before_first", sa.String(length=64), nullable=False),
        sa.Column("last", sa.BigInteger(), nullable=False),
        sa.Column("last_seal", sa.String(length=64), nullable=False),
        sa.Column("head", sa.String(length=64), nullable=False),
    )
    none = "0" * 64
    op.bulk_insert(chain, [{"id": 1, "first": 1, "before_first": none, "last": 0, "last_seal": none, "head": ""}])


def downgrade() -> None:
    op.drop_table("audit_chain")
    op.drop_table("audit_entry")
