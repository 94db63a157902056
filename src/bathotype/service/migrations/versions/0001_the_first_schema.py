"""the first schema"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "accounts",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_accounts")),
        sa.UniqueConstraint("name", name=op.f("uq_accounts_name")),
    )
    op.create_table(
        "alerts",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("raised_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("cleared_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_alerts_account_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_alerts")),
        sa.UniqueConstraint("account_id", "kind", "subject", name=op.f("uq_alerts_account_id")),
    )
    op.create_table(
        "api_tokens",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_api_tokens_account_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_api_tokens")),
        sa.UniqueConstraint("digest", name=op.f("uq_api_tokens_digest")),
    )
    op.create_table(
        "events",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=False), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("actor", sa.String(), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("action", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("before", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("after", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("digest", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_events_account_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_events")),
    )
    op.create_index("ix_events_account_id_id", "events", ["account_id", "id"], unique=False)
    op.create_table(
        "first_boot_sets",
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("settings", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_first_boot_sets_account_id")),
        sa.PrimaryKeyConstraint("account_id", "name", name=op.f("pk_first_boot_sets")),
    )
    op.create_table(
        "idempotent_answers",
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("key", sa.String(length=200), nullable=False),
        sa.Column("fingerprint", sa.String(), nullable=False),
        sa.Column("status", sa.BigInteger(), nullable=False),
        sa.Column("body", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_idempotent_answers_account_id")),
        sa.PrimaryKeyConstraint("account_id", "key", name=op.f("pk_idempotent_answers")),
    )
    op.create_table(
        "identities",
        sa.Column("site_machine", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("value", sa.String(), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("machine_name", sa.String(), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_identities_account_id")),
        sa.PrimaryKeyConstraint("site_machine", "kind", "value", name=op.f("pk_identities")),
    )
    op.create_index("ix_identities_kind_value", "identities", ["kind", "value"], unique=False)
    op.create_table(
        "lines",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("about", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_lines_account_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_lines")),
        sa.UniqueConstraint("account_id", "name", name=op.f("uq_lines_account_id")),
    )
    op.create_table(
        "operations",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("params", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("memo", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("ending", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("result", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("error", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("attempts", sa.BigInteger(), nullable=False),
        sa.Column("cancel_requested", sa.Boolean(), nullable=False),
        sa.Column("created_by", sa.String(), nullable=False),
        sa.Column("request_id", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("beat_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_operations_account_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_operations")),
    )
    op.create_index("ix_operations_account_id_id", "operations", ["account_id", "id"], unique=False)
    op.create_index(op.f("ix_operations_state"), "operations", ["state"], unique=False)
    op.create_table(
        "mark_moves",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=False), nullable=False),
        sa.Column("line_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("number", sa.String(), nullable=False),
        sa.Column("moved_by", sa.String(), nullable=False),
        sa.Column("moved_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_mark_moves_line_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_mark_moves")),
    )
    op.create_index("ix_mark_moves_line_id_name", "mark_moves", ["line_id", "name"], unique=False)
    op.create_table(
        "number_claims",
        sa.Column("line_id", sa.String(length=40), nullable=False),
        sa.Column("number", sa.String(), nullable=False),
        sa.Column("operation_id", sa.String(length=40), nullable=False),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_number_claims_line_id")),
        sa.ForeignKeyConstraint(["operation_id"], ["operations.id"], name=op.f("fk_number_claims_operation_id")),
        sa.PrimaryKeyConstraint("line_id", "number", name=op.f("pk_number_claims")),
    )
    op.create_index(op.f("ix_number_claims_operation_id"), "number_claims", ["operation_id"], unique=False)
    op.create_table(
        "operation_log",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=False), nullable=False),
        sa.Column("operation_id", sa.String(length=40), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("level", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["operation_id"], ["operations.id"], name=op.f("fk_operation_log_operation_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_operation_log")),
    )
    op.create_index(op.f("ix_operation_log_operation_id"), "operation_log", ["operation_id"], unique=False)
    op.create_table(
        "operation_steps",
        sa.Column("operation_id", sa.String(length=40), nullable=False),
        sa.Column("position", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("weight", sa.BigInteger(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("bytes_done", sa.BigInteger(), nullable=False),
        sa.Column("bytes_total", sa.BigInteger(), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["operation_id"], ["operations.id"], name=op.f("fk_operation_steps_operation_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("operation_id", "position", name=op.f("pk_operation_steps")),
    )
    op.create_table(
        "versions",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("line_id", sa.String(length=40), nullable=False),
        sa.Column("number", sa.String(), nullable=False),
        sa.Column("sort_key", sa.String(collation="C"), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("pin_only", sa.Boolean(), nullable=False),
        sa.Column("notes", sa.String(), nullable=False),
        sa.Column("content_digest", sa.String(), nullable=False),
        sa.Column("virtual_bytes", sa.BigInteger(), nullable=False),
        sa.Column("used_bytes", sa.BigInteger(), nullable=False),
        sa.Column("stored_bytes", sa.BigInteger(), nullable=False),
        sa.Column("new_bytes", sa.BigInteger(), nullable=False),
        sa.Column("mode", sa.String(), nullable=False),
        sa.Column("source", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("parent_id", sa.String(length=40), nullable=True),
        sa.Column("profile", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("steps", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("contents", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("operation_id", sa.String(length=40), nullable=False),
        sa.Column("sunset_on", sa.Date(), nullable=True),
        sa.Column("retire_on", sa.Date(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("released_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("retired_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("purged_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_versions_line_id")),
        sa.ForeignKeyConstraint(["operation_id"], ["operations.id"], name=op.f("fk_versions_operation_id")),
        sa.ForeignKeyConstraint(["parent_id"], ["versions.id"], name=op.f("fk_versions_parent_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_versions")),
        sa.UniqueConstraint("line_id", "number", name=op.f("uq_versions_line_id")),
        sa.UniqueConstraint("operation_id", name=op.f("uq_versions_operation_id")),
    )
    op.create_index("ix_versions_line_id_state_sort_key", "versions", ["line_id", "state", "sort_key"], unique=False)
    op.create_index(op.f("ix_versions_parent_id"), "versions", ["parent_id"], unique=False)
    op.create_table(
        "base_disks",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("site_disk", sa.String(), nullable=True),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_base_disks_account_id")),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_base_disks_version_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_base_disks")),
    )
    op.create_index(op.f("ix_base_disks_site_disk"), "base_disks", ["site_disk"], unique=False)
    op.create_index(op.f("ix_base_disks_version_id"), "base_disks", ["version_id"], unique=False)
    op.create_table(
        "findings",
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("position", sa.BigInteger(), nullable=False),
        sa.Column("rule", sa.String(), nullable=False),
        sa.Column("severity", sa.String(), nullable=False),
        sa.Column("path", sa.String(), nullable=False),
        sa.Column("line", sa.BigInteger(), nullable=False),
        sa.Column("excerpt", sa.String(), nullable=False),
        sa.Column("advice", sa.String(), nullable=False),
        sa.Column("accepted_by", sa.String(), nullable=True),
        sa.Column("accepted_reason", sa.String(), nullable=True),
        sa.Column("accepted_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["version_id"], ["versions.id"], name=op.f("fk_findings_version_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("version_id", "name", name=op.f("pk_findings")),
    )
    op.create_table(
        "holds",
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("placed_by", sa.String(), nullable=False),
        sa.Column("placed_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_holds_version_id")),
        sa.PrimaryKeyConstraint("version_id", "name", name=op.f("pk_holds")),
    )
    op.create_table(
        "instances",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("operation_id", sa.String(length=40), nullable=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("zone", sa.String(), nullable=False),
        sa.Column("size", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("origin", sa.String(), nullable=False),
        sa.Column("site_machine", sa.String(), nullable=True),
        sa.Column("address", sa.String(), nullable=True),
        sa.Column("host_name", sa.String(), nullable=False),
        sa.Column("first_boot", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("identity", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("reason", sa.String(), nullable=True),
        sa.Column("launched_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_instances_account_id")),
        sa.ForeignKeyConstraint(["operation_id"], ["operations.id"], name=op.f("fk_instances_operation_id")),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_instances_version_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_instances")),
    )
    op.create_index("ix_instances_account_id_id", "instances", ["account_id", "id"], unique=False)
    op.create_index(op.f("ix_instances_operation_id"), "instances", ["operation_id"], unique=False)
    op.create_index(op.f("ix_instances_site_machine"), "instances", ["site_machine"], unique=False)
    op.create_index("ix_instances_version_id_state", "instances", ["version_id", "state"], unique=False)
    op.create_table(
        "marks",
        sa.Column("line_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.ForeignKeyConstraint(["line_id"], ["lines.id"], name=op.f("fk_marks_line_id")),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_marks_version_id")),
        sa.PrimaryKeyConstraint("line_id", "name", name=op.f("pk_marks")),
    )
    op.create_index(op.f("ix_marks_version_id"), "marks", ["version_id"], unique=False)
    op.create_table(
        "replicas",
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("verified_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_replicas_version_id")),
        sa.PrimaryKeyConstraint("version_id", "region", name=op.f("pk_replicas")),
    )
    op.create_table(
        "version_packages",
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("architecture", sa.String(), nullable=False),
        sa.Column("version", sa.String(), nullable=False),
        sa.Column("manager", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id"], ["versions.id"], name=op.f("fk_version_packages_version_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("version_id", "name", "architecture", "version", name=op.f("pk_version_packages")),
    )
    op.create_index("ix_version_packages_name", "version_packages", ["name"], unique=False)

    op.execute(
        """
        create function refuse_event_change() returns trigger language plpgsql as $$
        begin raise exception 'events are append-only'; end $$
        """
    )
    op.execute(
        "create trigger events_append_only before update or delete or truncate on events "
        "for each statement execute function refuse_event_change()"
    )


def downgrade() -> None:
    op.drop_index("ix_version_packages_name", table_name="version_packages")
    op.drop_table("version_packages")
    op.drop_table("replicas")
    op.drop_index(op.f("ix_marks_version_id"), table_name="marks")
    op.drop_table("marks")
    op.drop_index("ix_instances_version_id_state", table_name="instances")
    op.drop_index(op.f("ix_instances_site_machine"), table_name="instances")
    op.drop_index(op.f("ix_instances_operation_id"), table_name="instances")
    op.drop_index("ix_instances_account_id_id", table_name="instances")
    op.drop_table("instances")
    op.drop_table("holds")
    op.drop_table("findings")
    op.drop_index(op.f("ix_base_disks_version_id"), table_name="base_disks")
    op.drop_index(op.f("ix_base_disks_site_disk"), table_name="base_disks")
    op.drop_table("base_disks")
    op.drop_index(op.f("ix_versions_parent_id"), table_name="versions")
    op.drop_index("ix_versions_line_id_state_sort_key", table_name="versions")
    op.drop_table("versions")
    op.drop_table("operation_steps")
    op.drop_index(op.f("ix_operation_log_operation_id"), table_name="operation_log")
    op.drop_table("operation_log")
    op.drop_index(op.f("ix_number_claims_operation_id"), table_name="number_claims")
    op.drop_table("number_claims")
    op.drop_index("ix_mark_moves_line_id_name", table_name="mark_moves")
    op.drop_table("mark_moves")
    op.drop_index(op.f("ix_operations_state"), table_name="operations")
    op.drop_index("ix_operations_account_id_id", table_name="operations")
    op.drop_table("operations")
    op.drop_table("lines")
    op.drop_index("ix_identities_kind_value", table_name="identities")
    op.drop_table("identities")
    op.drop_table("idempotent_answers")
    op.drop_table("first_boot_sets")
    op.drop_index("ix_events_account_id_id", table_name="events")
    op.drop_table("events")
    op.drop_table("api_tokens")
    op.drop_table("alerts")
    op.drop_table("accounts")
    op.execute("drop function refuse_event_change()")
