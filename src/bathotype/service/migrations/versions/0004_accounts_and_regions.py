"""accounts and regions: users, roles, shares, rules, allowances, placements, transfers, signatures"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql
from sqlalchemy.dialects.postgresql import JSONB

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def _add(table: str, name: str, kind: Any, value: Any) -> None:
    """A column that must have a value, on a table that has rows."""
    op.add_column(table, sa.Column(name, kind, nullable=False, server_default=value))
    op.alter_column(table, name, server_default=None)


def _robots() -> None:
    """Tokens of an account become tokens of a robot, which is a steward there as the tokens were."""
    op.execute(
        "insert into users (id, name, kind, failures, created_at) "
        "select 'us-' || substr(t.id, 4), a.name || '-' || t.name || '-' || right(t.id, 4), 'robot', 0, t.created_at "
        "from api_tokens t join accounts a on a.id = t.account_id"
    )
    op.execute(
        "insert into memberships (account_id, user_id, role, since) "
        "select account_id, 'us-' || substr(id, 4), 'steward', created_at from api_tokens"
    )
    op.execute("update api_tokens set user_id = 'us-' || substr(id, 4)")


def upgrade() -> None:
    op.alter_column("instances", "site_machine", type_=sa.String(collation="C"))
    op.create_table(
        "links",
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("target", sa.String(), nullable=False),
        sa.Column("free_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("bytes_moved", sa.BigInteger(), nullable=False),
        sa.Column("rate", sa.Double(), nullable=True),
        sa.PrimaryKeyConstraint("source", "target", name=op.f("pk_links")),
    )
    op.create_table(
        "oidc_attempts",
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("nonce", sa.String(), nullable=False),
        sa.Column("verifier", sa.String(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("state", name=op.f("pk_oidc_attempts")),
    )
    op.create_table(
        "users",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("password", sa.String(), nullable=True),
        sa.Column("subject", sa.String(), nullable=True),
        sa.Column("failures", sa.BigInteger(), nullable=False),
        sa.Column("locked_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_users")),
        sa.UniqueConstraint("name", name=op.f("uq_users_name")),
        sa.UniqueConstraint("subject", name=op.f("uq_users_subject")),
    )
    op.create_table(
        "account_keys",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("public", sa.String(), nullable=False),
        sa.Column("private", sa.String(), nullable=True),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_account_keys_account_id")),
        sa.PrimaryKeyConstraint("id", "account_id", name=op.f("pk_account_keys")),
    )
    op.create_table(
        "console_sessions",
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("user_id", sa.String(length=40), nullable=False),
        sa.Column("csrf", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["user_id"], ["users.id"], name=op.f("fk_console_sessions_user_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_console_sessions")),
    )
    op.create_index(op.f("ix_console_sessions_user_id"), "console_sessions", ["user_id"], unique=False)
    op.create_table(
        "invitations",
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("user_id", sa.String(length=40), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["user_id"], ["users.id"], name=op.f("fk_invitations_user_id"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_invitations")),
    )
    op.create_index(op.f("ix_invitations_user_id"), "invitations", ["user_id"], unique=False)
    op.create_table(
        "launch_rules",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("body", JSONB(), nullable=False),
        sa.Column("set_by", sa.String(), nullable=False),
        sa.Column("set_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_launch_rules_account_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_launch_rules")),
    )
    op.create_index("ix_launch_rules_account_id", "launch_rules", ["account_id"], unique=False)
    op.create_index(
        "uq_launch_rules_name", "launch_rules", [sa.literal_column("coalesce(account_id, '')"), "name"], unique=True
    )
    op.create_table(
        "memberships",
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("user_id", sa.String(length=40), nullable=False),
        sa.Column("role", sa.String(), nullable=False),
        sa.Column("since", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_memberships_account_id")),
        sa.ForeignKeyConstraint(["user_id"], ["users.id"], name=op.f("fk_memberships_user_id"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("account_id", "user_id", name=op.f("pk_memberships")),
    )
    op.create_index(op.f("ix_memberships_user_id"), "memberships", ["user_id"], unique=False)
    op.create_table(
        "arrivals",
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("operation_id", sa.String(length=40), nullable=False),
        sa.Column("pack", sa.String(), nullable=True),
        sa.Column("offset", sa.BigInteger(), nullable=False),
        sa.Column("length", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["operation_id"], ["operations.id"], name=op.f("fk_arrivals_operation_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("region", "digest", name=op.f("pk_arrivals")),
    )
    op.create_index(op.f("ix_arrivals_operation_id"), "arrivals", ["operation_id"], unique=False)
    op.create_table(
        "placements",
        sa.Column("line_id", sa.String(length=40), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("copies", sa.BigInteger(), nullable=False),
        sa.Column("multi_zone", sa.Boolean(), nullable=False),
        sa.Column("leaving", sa.Boolean(), nullable=False),
        sa.Column("set_by", sa.String(), nullable=False),
        sa.Column("set_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_placements_line_id")),
        sa.PrimaryKeyConstraint("line_id", "region", name=op.f("pk_placements")),
    )
    op.create_table(
        "allowances",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("line_id", sa.String(length=40), nullable=True),
        sa.Column("version_id", sa.String(length=40), nullable=True),
        sa.Column("consumer_id", sa.String(length=40), nullable=True),
        sa.Column("most", sa.BigInteger(), nullable=False),
        sa.Column("set_by", sa.String(), nullable=False),
        sa.Column("set_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_allowances_account_id")),
        sa.ForeignKeyConstraint(["consumer_id"], ["accounts.id"], name=op.f("fk_allowances_consumer_id")),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_allowances_line_id")),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_allowances_version_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_allowances")),
        sa.UniqueConstraint("account_id", "name", name=op.f("uq_allowances_account_id")),
    )
    op.create_index(op.f("ix_allowances_line_id"), "allowances", ["line_id"], unique=False)
    op.create_index(op.f("ix_allowances_version_id"), "allowances", ["version_id"], unique=False)
    op.create_table(
        "notices",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_notices_account_id")),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_notices_version_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_notices")),
        sa.UniqueConstraint("account_id", "kind", "version_id", name=op.f("uq_notices_account_id")),
    )
    op.create_index(op.f("ix_notices_version_id"), "notices", ["version_id"], unique=False)
    op.create_table(
        "shares",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("owner_id", sa.String(length=40), nullable=False),
        sa.Column("consumer_id", sa.String(length=40), nullable=True),
        sa.Column("line_id", sa.String(length=40), nullable=False),
        sa.Column("version_id", sa.String(length=40), nullable=True),
        sa.Column("regions", JSONB(), nullable=True),
        sa.Column("until", sa.Date(), nullable=True),
        sa.Column("note", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("proposed_by", sa.String(), nullable=False),
        sa.Column("proposed_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("decided_by", sa.String(), nullable=True),
        sa.Column("decided_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_by", sa.String(), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["consumer_id"], ["accounts.id"], name=op.f("fk_shares_consumer_id")),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_shares_line_id")),
        sa.ForeignKeyConstraint(["owner_id"], ["accounts.id"], name=op.f("fk_shares_owner_id")),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_shares_version_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_shares")),
    )
    op.create_index("ix_shares_consumer_id_state", "shares", ["consumer_id", "state"], unique=False)
    op.create_index(op.f("ix_shares_line_id"), "shares", ["line_id"], unique=False)
    op.create_index(op.f("ix_shares_owner_id"), "shares", ["owner_id"], unique=False)
    op.create_index(op.f("ix_shares_version_id"), "shares", ["version_id"], unique=False)
    op.create_index(
        "uq_shares_standing",
        "shares",
        ["line_id", sa.literal_column("coalesce(version_id, '')"), sa.literal_column("coalesce(consumer_id, '')")],
        unique=True,
        postgresql_where=sa.text("state in ('proposed', 'active')"),
    )
    op.create_table(
        "pool_lines",
        sa.Column("allowance_id", sa.String(length=40), nullable=False),
        sa.Column("line_id", sa.String(length=40), nullable=False),
        sa.ForeignKeyConstraint(
            ["allowance_id"], ["allowances.id"], name=op.f("fk_pool_lines_allowance_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_pool_lines_line_id")),
        sa.PrimaryKeyConstraint("allowance_id", "line_id", name=op.f("pk_pool_lines")),
    )
    op.create_index(op.f("ix_pool_lines_line_id"), "pool_lines", ["line_id"], unique=False)
    op.add_column("api_tokens", sa.Column("user_id", sa.String(length=40)))
    _robots()
    op.alter_column("api_tokens", "user_id", nullable=False)
    op.add_column("api_tokens", sa.Column("accounts", JSONB(), nullable=True))
    op.add_column("api_tokens", sa.Column("verbs", JSONB(), nullable=True))
    _add("api_tokens", "made_by", sa.String(), "")
    op.add_column("api_tokens", sa.Column("last_used_at", sa.DateTime(timezone=True), nullable=True))
    _add("api_tokens", "last_used_from", sa.String(), "")
    op.add_column("api_tokens", sa.Column("revoked_at", sa.DateTime(timezone=True), nullable=True))
    op.execute("update api_tokens set expires_at = created_at + interval '365 days' where expires_at is null")
    op.alter_column("api_tokens", "expires_at", existing_type=postgresql.TIMESTAMP(timezone=True), nullable=False)
    op.create_index(op.f("ix_api_tokens_user_id"), "api_tokens", ["user_id"], unique=False)
    op.drop_constraint(op.f("fk_api_tokens_account_id"), "api_tokens", type_="foreignkey")
    op.create_foreign_key(op.f("fk_api_tokens_user_id"), "api_tokens", "users", ["user_id"], ["id"], ondelete="CASCADE")
    op.drop_column("api_tokens", "account_id")
    _add("base_disks", "zone", sa.String(), "")
    _add("base_disks", "launching", sa.BigInteger(), sa.text("0"))
    _add("base_disks", "granted_to", JSONB(), sa.text("'[]'"))
    op.create_index("ix_events_account_id_action_id", "events", ["account_id", "action", "id"], unique=False)
    op.create_index("ix_events_account_id_subject_id", "events", ["account_id", "subject", "id"], unique=False)
    op.add_column("instances", sa.Column("asked_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("instances", sa.Column("acted_at", sa.DateTime(timezone=True), nullable=True))
    op.create_index(
        "ix_instances_account_id_region_site_machine",
        "instances",
        ["account_id", "region", "site_machine"],
        unique=False,
    )
    op.create_index(
        "ix_instances_account_id_version_id_state", "instances", ["account_id", "version_id", "state"], unique=False
    )
    _add("replicas", "copies", sa.BigInteger(), sa.text("0"))
    _add("replicas", "multi_zone", sa.Boolean(), sa.text("false"))
    op.add_column("versions", sa.Column("adopted_from_id", sa.String(length=40), nullable=True))
    op.add_column("versions", sa.Column("signature", JSONB(), nullable=True))
    op.create_index(op.f("ix_versions_adopted_from_id"), "versions", ["adopted_from_id"], unique=False)
    op.create_index(
        "ix_versions_offered",
        "versions",
        ["line_id", "sort_key"],
        unique=False,
        postgresql_where=sa.text("state = 'released' and not pin_only"),
        postgresql_include=["number"],
    )
    op.create_foreign_key(op.f("fk_versions_adopted_from_id"), "versions", "versions", ["adopted_from_id"], ["id"])


def downgrade() -> None:
    op.drop_constraint(op.f("fk_versions_adopted_from_id"), "versions", type_="foreignkey")
    op.drop_index(
        "ix_versions_offered",
        table_name="versions",
        postgresql_where=sa.text("state = 'released' and not pin_only"),
        postgresql_include=["number"],
    )
    op.drop_index(op.f("ix_versions_adopted_from_id"), table_name="versions")
    op.drop_column("versions", "signature")
    op.drop_column("versions", "adopted_from_id")
    op.drop_column("replicas", "multi_zone")
    op.drop_column("replicas", "copies")
    op.drop_index("ix_instances_account_id_version_id_state", table_name="instances")
    op.drop_index("ix_instances_account_id_region_site_machine", table_name="instances")
    op.drop_column("instances", "acted_at")
    op.drop_column("instances", "asked_at")
    op.drop_index("ix_events_account_id_subject_id", table_name="events")
    op.drop_index("ix_events_account_id_action_id", table_name="events")
    op.drop_column("base_disks", "granted_to")
    op.drop_column("base_disks", "launching")
    op.drop_column("base_disks", "zone")
    op.add_column("api_tokens", sa.Column("account_id", sa.String(length=40)))
    op.execute(
        "update api_tokens t set account_id = (select min(m.account_id) from memberships m where m.user_id = t.user_id)"
    )
    op.execute("delete from api_tokens where account_id is null")
    op.alter_column("api_tokens", "account_id", nullable=False)
    op.drop_constraint(op.f("fk_api_tokens_user_id"), "api_tokens", type_="foreignkey")
    op.create_foreign_key(op.f("fk_api_tokens_account_id"), "api_tokens", "accounts", ["account_id"], ["id"])
    op.drop_index(op.f("ix_api_tokens_user_id"), table_name="api_tokens")
    op.alter_column("api_tokens", "expires_at", existing_type=postgresql.TIMESTAMP(timezone=True), nullable=True)
    op.drop_column("api_tokens", "revoked_at")
    op.drop_column("api_tokens", "last_used_from")
    op.drop_column("api_tokens", "last_used_at")
    op.drop_column("api_tokens", "made_by")
    op.drop_column("api_tokens", "verbs")
    op.drop_column("api_tokens", "accounts")
    op.drop_column("api_tokens", "user_id")
    op.drop_index(op.f("ix_pool_lines_line_id"), table_name="pool_lines")
    op.drop_table("pool_lines")
    op.drop_index(
        "uq_shares_standing", table_name="shares", postgresql_where=sa.text("state in ('proposed', 'active')")
    )
    op.drop_index(op.f("ix_shares_version_id"), table_name="shares")
    op.drop_index(op.f("ix_shares_owner_id"), table_name="shares")
    op.drop_index(op.f("ix_shares_line_id"), table_name="shares")
    op.drop_index("ix_shares_consumer_id_state", table_name="shares")
    op.drop_table("shares")
    op.drop_index(op.f("ix_notices_version_id"), table_name="notices")
    op.drop_table("notices")
    op.drop_index(op.f("ix_allowances_version_id"), table_name="allowances")
    op.drop_index(op.f("ix_allowances_line_id"), table_name="allowances")
    op.drop_table("allowances")
    op.drop_table("placements")
    op.drop_index(op.f("ix_arrivals_operation_id"), table_name="arrivals")
    op.drop_table("arrivals")
    op.drop_index(op.f("ix_memberships_user_id"), table_name="memberships")
    op.drop_table("memberships")
    op.drop_index("uq_launch_rules_name", table_name="launch_rules")
    op.drop_index("ix_launch_rules_account_id", table_name="launch_rules")
    op.drop_table("launch_rules")
    op.drop_index(op.f("ix_invitations_user_id"), table_name="invitations")
    op.drop_table("invitations")
    op.drop_index(op.f("ix_console_sessions_user_id"), table_name="console_sessions")
    op.drop_table("console_sessions")
    op.drop_table("account_keys")
    op.drop_table("users")
    op.drop_table("oidc_attempts")
    op.drop_table("links")
    op.alter_column("instances", "site_machine", type_=sa.String())
