"""roles and where they are held, teams, invites; more of people, sessions and keys"""

import json

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None

TIME = mysql.DATETIME(fsp=6)
ROLES = {"read": "viewer", "operate": "operator", "maintain": "manager", "tender": "tender"}
OPERATOR = ["see", "operate", "judge", "queue", "change_files"]
RIGHTS = {
    "read": ["see"],
    "operate": OPERATOR,
    "maintain": [*OPERATOR, "change_models", "send_lines", "overrule", "spend", "set_up", "manage_people"],
    "tender": ["tender"],
}


def upgrade() -> None:
    op.create_table(
        "role",
        sa.Column("name", sa.String(length=40), primary_key=True),
        sa.Column("rights", sa.JSON(), nullable=False),
        sa.Column("made_by", sa.String(length=120), nullable=False),
    )
    op.create_table(
        "team",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(length=60), nullable=False, unique=True),
    )
    op.create_table(
        "team_member",
        sa.Column("team_id", sa.Integer(), sa.ForeignKey("team.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), primary_key=True),
    )
    op.create_table(
        "role_held",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id")),
        sa.Column("team_id", sa.Integer(), sa.ForeignKey("team.id", ondelete="CASCADE")),
        sa.Column("role", sa.String(length=40), nullable=False),
        sa.Column("place_kind", sa.String(length=8), nullable=False),
        sa.Column("place", sa.String(length=60), nullable=False),
        sa.CheckConstraint("(person_id is null) <> (team_id is null)", name="one_holder"),
    )
    op.create_table(
        "invite",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("token_hash", sa.String(length=64), nullable=False, unique=True),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("mail", sa.String(length=254), nullable=False),
        sa.Column("roles", sa.JSON(), nullable=False),
        sa.Column("teams", sa.JSON(), nullable=False),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id")),
        sa.Column("made_by", sa.String(length=120), nullable=False),
        sa.Column("made_at", TIME, nullable=False),
        sa.Column("expires_at", TIME, nullable=False),
        sa.Column("taken_at", TIME),
        sa.Column("taken_by", sa.String(length=120), nullable=False),
    )
    for scope, role in ROLES.items():
        op.execute(
            "insert into role_held (person_id, role, place_kind, place) "
            f"select id, '{role}', 'shop', '' from person where scope = '{scope}'"
        )
    op.drop_column("person", "scope")
    op.add_column("person", sa.Column("mail", sa.String(length=254), nullable=False, server_default=""))
    op.add_column("person", sa.Column("zone", sa.String(length=64), nullable=False, server_default=""))
    op.add_column("person", sa.Column("theme", sa.String(length=8), nullable=False, server_default=""))
    op.add_column("person", sa.Column("picture", sa.LargeBinary(length=400_000)))
    op.add_column("person", sa.Column("pictured_at", TIME))
    op.drop_table("session")  # people sign in again
    op.create_table(
        "session",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("token_hash", sa.String(length=64), nullable=False, unique=True),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), nullable=False),
        sa.Column("csrf", sa.String(length=64), nullable=False),
        sa.Column("made_at", TIME, nullable=False),
        sa.Column("last_at", TIME, nullable=False),
        sa.Column("expires_at", TIME, nullable=False),
        sa.Column("place", sa.String(length=60), nullable=False),
        sa.Column("device", sa.String(length=80), nullable=False),
        sa.Column("trusted", sa.Boolean(), nullable=False),
    )
    op.add_column("access_key", sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id", name="key_of_person")))
    op.add_column("access_key", sa.Column("rights", sa.JSON()))
    op.add_column("access_key", sa.Column("places", sa.JSON()))
    op.add_column("access_key", sa.Column("expires_at", TIME))
    op.add_column("access_key", sa.Column("last_at", TIME))
    op.add_column("access_key", sa.Column("old_secret_hash", sa.String(length=64), unique=True))
    op.add_column("access_key", sa.Column("old_until", TIME))
    for scope, rights in RIGHTS.items():
        written = {"rights": json.dumps(rights), "places": json.dumps([["shop", ""]]), "scope": scope}
        op.get_bind().execute(
            sa.text("update access_key set rights = :rights, places = :places where scope = :scope"), written
        )
    op.alter_column("access_key", "rights", existing_type=sa.JSON(), nullable=False)
    op.alter_column("access_key", "places", existing_type=sa.JSON(), nullable=False)
    op.drop_column("access_key", "scope")


def downgrade() -> None:
    scope = sa.Column("scope", sa.String(length=16), nullable=False, server_default="read")
    op.add_column("access_key", scope)
    for known in ("read", "operate", "maintain", "tender"):  # the last that fits holds
        right = {"read": "see", "operate": "operate", "maintain": "manage_people", "tender": "tender"}[known]
        op.execute(f"update access_key set scope = '{known}' where json_contains(rights, '\"{right}\"')")
    op.drop_constraint("key_of_person", "access_key", type_="foreignkey")
    for name in ("person_id", "rights", "places", "expires_at", "last_at", "old_secret_hash", "old_until"):
        op.drop_column("access_key", name)
    op.drop_table("session")
    op.create_table(
        "session",
        sa.Column("token_hash", sa.String(length=64), primary_key=True),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("person.id"), nullable=False),
        sa.Column("csrf", sa.String(length=64), nullable=False),
        sa.Column("expires_at", TIME, nullable=False),
    )
    op.add_column("person", sa.Column("scope", sa.String(length=16), nullable=False, server_default="read"))
    for known, role in (("operate", "operator"), ("maintain", "manager")):
        op.execute(
            f"update person join role_held on role_held.person_id = person.id set scope = '{known}' "
            f"where role_held.role = '{role}' and role_held.place_kind = 'shop'"
        )
    for name in ("mail", "zone", "theme", "picture", "pictured_at"):
        op.drop_column("person", name)
    for table in ("invite", "role_held", "team_member", "team", "role"):
        op.drop_table(table)
